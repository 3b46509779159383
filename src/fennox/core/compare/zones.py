"""Zone files of name servers as structures."""

from __future__ import annotations

import dns.exception
import dns.name
import dns.rdatatype
import dns.zone


def read(text: str) -> dict[str, dict[str, list[str]]]:
    """Name → type → records, sorted. A zone file (RFC 1035, section 5) without an origin gets the
    root. Raises ``ValueError`` for anything else.
    """
    try:
        zone = dns.zone.from_text(
            f"$ORIGIN .\n{text}",
            origin=_name(text),
            relativize=False,
            check_origin=False,
            allow_include=False,
        )
    except dns.exception.DNSException as error:
        raise ValueError(str(error)) from error
    return {
        name.to_text(): {
            dns.rdatatype.to_text(records.rdtype): sorted(
                f"{records.ttl} {record.to_text()}" for record in records
            )
            for records in node.rdatasets
        }
        for name, node in zone.nodes.items()
    }


def _name(text: str) -> dns.name.Name:
    """The owner of the SOA record: a name server writes it below ``$ORIGIN .``, people mostly as
    ``@``.
    """
    origin = dns.name.root
    for line in text.splitlines():
        words = line.split()
        if len(words) > 1 and words[0].upper() == "$ORIGIN":
            origin = dns.name.from_text(words[1], origin)
        elif "SOA" in (word.upper() for word in words[1:4]):
            return dns.name.from_text(words[0], origin)
    return origin
