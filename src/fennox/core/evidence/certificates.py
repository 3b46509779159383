"""Certificates in captured documents: subjects and expiry (X.509, RFC 5280). Pure."""

from __future__ import annotations

import re
from collections.abc import Iterator

from cryptography import x509

from fennox.core.format.manifest import Certificate
from fennox.core.kinds.expressions import Complaint, Evidence, wanted
from fennox.core.kinds.model import Kind
from fennox.core.names import printable

_PEM = re.compile(rb"-----BEGIN CERTIFICATE-----[^-]+-----END CERTIFICATE-----")
_MOST = 200  # per backup; trust bundles hold more, but those certificates belong to others


def certificates(kind: Kind, evidence: Evidence) -> list[Certificate]:
    """Every certificate in the documents named by the kind, by document. An unreadable one is a
    complaint.
    """
    found: list[Certificate] = []
    for path in sorted(evidence.contents):
        if wanted(kind.certificates, path):
            found += _in_document(path, evidence)
    return found[:_MOST]


def _in_document(path: str, evidence: Evidence) -> Iterator[Certificate]:
    for block in _PEM.findall(evidence.contents[path]):
        try:
            read = x509.load_pem_x509_certificate(block)
            subject = read.subject.rfc4514_string()
            until = read.not_valid_after_utc
        except ValueError:
            evidence.complaints.append(Complaint(path, "holds a certificate that cannot be read"))
            continue
        yield Certificate(
            document=path, subject=printable(subject)[:200], until=int(until.timestamp())
        )
