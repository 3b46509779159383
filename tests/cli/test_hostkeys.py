"""Host keys that a name service vouches for, asked of a real one on loopback."""

from __future__ import annotations

import hashlib
import socket
import threading
from base64 import b64encode
from collections.abc import Iterator

import dns.flags
import dns.message
import dns.resolver
import dns.rrset
import pytest

from fennox.cli.host_keys import keys_by_name
from fennox.core.errors import BadInput
from tests.places import loopback

DIGEST = hashlib.sha256(b"a host key").hexdigest()
FINGERPRINT = "SHA256:" + b64encode(bytes.fromhex(DIGEST)).decode().rstrip(
    "="
)  # as OpenSSH prints it


class NameServer:
    """Answers every question with the same records, by UDP."""

    def __init__(self, *, validated: bool) -> None:
        self.validated = validated
        self.socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.socket.bind((loopback(), 0))
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        while True:
            try:
                data, asker = self.socket.recvfrom(4096)
            except OSError:
                return  # closed
            question = dns.message.from_wire(data)
            answer = dns.message.make_response(question)
            answer.flags |= dns.flags.RA | (dns.flags.AD if self.validated else 0)
            name = question.question[0].name
            if name.to_text().startswith("depot."):
                records = [f"4 2 {DIGEST}", "4 1 " + "ab" * 20]
                answer.answer.append(dns.rrset.from_text(name, 60, "IN", "SSHFP", *records))
            self.socket.sendto(answer.to_wire(), asker)

    def resolver(self) -> dns.resolver.Resolver:
        made = dns.resolver.Resolver(configure=False)
        host, made.port = self.socket.getsockname()
        made.nameservers = [host]
        return made


@pytest.fixture(params=[True, False], ids=["validated", "not validated"])
def names(request: pytest.FixtureRequest) -> Iterator[NameServer]:
    made = NameServer(validated=request.param)
    yield made
    made.socket.close()


def test_only_what_was_validated_and_is_sha_256_counts(names: NameServer) -> None:
    if names.validated:
        assert keys_by_name("depot.saltmere.example", names.resolver()) == {FINGERPRINT}
    else:
        with pytest.raises(BadInput, match="not validated"):
            keys_by_name("depot.saltmere.example", names.resolver())


def test_a_host_without_records_is_said_to_have_none(names: NameServer) -> None:
    with pytest.raises(BadInput, match="publishes no SSHFP record"):
        keys_by_name("elsewhere.saltmere.example", names.resolver())
