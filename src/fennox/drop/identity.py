"""The keys by which systems know the receiving end, and the keys of systems."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

import asyncssh
from cryptography import x509
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.x509.oid import NameOID

# systems pin it: a new one must be accepted everywhere
_CERTIFICATE_LASTS = timedelta(days=3650)


@dataclass(frozen=True)
class DropCertificate:
    """Both in PEM."""

    certificate: str
    key: str


@dataclass(frozen=True)
class HostKey:
    """``private`` in OpenSSH's form."""

    private: str
    fingerprint: str


def new_host_key() -> HostKey:
    key = asyncssh.generate_private_key("ssh-ed25519", "drop")
    return HostKey(key.export_private_key().decode(), key.get_fingerprint("sha256"))


def new_certificate(now: datetime) -> DropCertificate:
    """Signed by itself: systems know it by its fingerprint."""
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "drop")])
    certificate = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=1))
        .not_valid_after(now + _CERTIFICATE_LASTS)
        .sign(key, SHA256())
    )
    private = key.private_bytes(
        serialization.Encoding.PEM,
        serialization.PrivateFormat.PKCS8,
        serialization.NoEncryption(),
    )
    return DropCertificate(
        certificate.public_bytes(serialization.Encoding.PEM).decode(), private.decode()
    )


def certificate_fingerprint(pem: str) -> str:
    """SHA-256, as pairs with colons."""
    found = x509.load_pem_x509_certificate(pem.encode())
    return found.fingerprint(SHA256()).hex(":").upper()


def public_line(given: str) -> str | None:
    """A public key as OpenSSH writes it, without options that such a line may carry; None: it is
    none.
    """
    try:
        return asyncssh.import_public_key(given).export_public_key().decode().strip()
    except (asyncssh.KeyImportError, ValueError):
        return None
