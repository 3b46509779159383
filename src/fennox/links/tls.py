"""Certificates of far sides: fetched before any request, then exactly one is trusted. A person
accepts one certificate by its fingerprint, or ``authority``: any certificate this machine's own
authorities verify for the name in the address.
"""

from __future__ import annotations

import asyncio
import base64
import hashlib
import ssl
from datetime import datetime

from cryptography import x509

from fennox.core.errors import FennoxError, KeyChanged, KeyUnknown, Unreachable
from fennox.links.base import Address, Dial
from fennox.links.dialling import opened

AUTHORITY = "authority"


def fingerprint_of(certificate: bytes) -> str:
    """``SHA256:`` and base64 of the digest of the DER form, as host keys are written."""
    return "SHA256:" + base64.b64encode(hashlib.sha256(certificate).digest()).decode().rstrip("=")


def ends(certificate: bytes) -> datetime | None:
    """Expiry of a certificate (DER); None if unreadable, which does not prevent its acceptance."""
    try:
        return x509.load_der_x509_certificate(certificate).not_valid_after_utc
    except ValueError:
        return None


def looking_context() -> ssl.SSLContext:
    """Only to fetch the certificate; connections for requests trust one certificate alone."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    return context


def pinned_context(certificate: bytes) -> ssl.SSLContext:
    """Trusts exactly this certificate, whatever name it carries."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname = False  # pinning replaces the name check
    context.verify_flags |= ssl.VERIFY_X509_PARTIAL_CHAIN
    context.load_verify_locations(cadata=certificate)
    return context


async def offered(address: Address, limit: float, dial: Dial | None = None) -> bytes:
    """The certificate (DER) that the far side shows, before any request."""
    try:
        async with asyncio.timeout(limit), opened(address, dial, looking_context()) as (_, writer):
            shown: ssl.SSLObject = writer.get_extra_info("ssl_object")
            certificate = shown.getpeercert(binary_form=True)
    except (OSError, TimeoutError) as error:
        raise Unreachable(
            f"{address} cannot be reached by TLS ({type(error).__name__}).",
            "Check address, port and network.",
        ) from error
    if certificate is None:
        raise Unreachable(f"{address} shows no certificate.", "Check that it is the right port.")
    return certificate


def judge(address: Address, certificate: bytes, accepted: str | None) -> None:
    """Reject any certificate but the accepted one."""
    shown = fingerprint_of(certificate)
    if accepted is None:
        raise KeyUnknown(
            f"{address} shows the certificate {shown}, which nobody has accepted yet.",
            "Compare it with the machine's own key, then accept it.",
            fingerprint=shown,
        )
    if shown != accepted:
        raise key_changed(address, "certificate", shown, accepted)


def key_changed(address: Address, what: str, shown: str, accepted: str) -> FennoxError:
    return KeyChanged(
        f"{address} shows the {what} {shown}; {accepted} was accepted for it.",
        "If the machine was reinstalled, accept the new one on purpose; if not, somebody may be in"
        " between.",
        fingerprint=shown,
        accepted=accepted,
    )


async def trusted_context(address: Address, accepted: str | None, limit: float) -> ssl.SSLContext:
    """The context for requests to ``address``: pinned to its accepted certificate, or using this
    machine's authorities.
    """
    if accepted == AUTHORITY:
        return ssl.create_default_context()
    certificate = await offered(address, limit)
    judge(address, certificate, accepted)
    return pinned_context(certificate)
