"""A receiving end that cannot listen is a concern of the service."""

from __future__ import annotations

from fennox.service.drops import drop_settings, missing_pushes
from fennox.service.machines.context import Context
from fennox.wire.drops import DropListening


async def test_each_address_that_is_taken_is_a_concern_of_its_own(context: Context) -> None:
    assert missing_pushes.not_listening(context) == []
    told = [
        DropListening(protocol="sftp", address="10.0.0.1:22", problem="10.0.0.1:22 is taken."),
        DropListening(protocol="ftps", address="10.0.0.1:21", problem=""),
    ]
    drop_settings.write_status(context.settings.state, told)
    [concern] = missing_pushes.not_listening(context)
    assert (concern.text, concern.severity) == ("10.0.0.1:22 is taken.", "high")
    assert "fennox drop set" in concern.remedy
