"""Certificates of far sides: fetched before any request, and then exactly one of them is trusted.

A person accepts either one certificate, by its fingerprint, or ``authority``: any certificate that
this machine's own authorities vouch for under the name in the address.
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
    """When a certificate (DER) ends; None if it cannot be read, which does not keep anybody from
    accepting it.
    """
    try:
        return x509.load_der_x509_certificate(certificate).not_valid_after_utc
    except ValueError:
        return None


def looking_context() -> ssl.SSLContext:
    """Only to look at what is shown; a connection that talks trusts one certificate alone."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    return context


def pinned_context(certificate: bytes) -> ssl.SSLContext:
    """Trusts exactly this certificate, whatever name it carries."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname = False  # the pinned certificate stands for the name
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
    """Refuse a certificate that nobody accepted, and one that is not the accepted one."""
    shown = fingerprint_of(certificate)
    if accepted is None:
        raise KeyUnknown(
            f"{address} shows the certificate {shown}, which nobody has accepted yet.",
            "Compare it with the machine's own, then accept it.",
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
    """The context for talking to ``address``: pinned to its accepted certificate, or by this
    machine's authorities.
    """
    if accepted == AUTHORITY:
        return ssl.create_default_context()
    certificate = await offered(address, limit)
    judge(address, certificate, accepted)
    return pinned_context(certificate)
