"""Commands and requests of a kind file."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

Words = list[str]
"""A command as a list of words; placeholders like ``{setting}`` are filled in, and every word is
quoted for a shell.
"""


class KindModel(BaseModel):
    model_config = ConfigDict(
        extra="forbid", frozen=True, use_attribute_docstrings=True, defer_build=True
    )


class Request(KindModel):
    """A request of an HTTP interface."""

    method: Literal["GET", "POST", "PUT", "DELETE"] = "GET"
    """The method of the request."""
    path: str
    """The path, with settings filled in."""
    json_body: Annotated[dict[str, object] | None, Field(alias="json")] = None
    """The body, as JSON."""


class Action(KindModel):
    """A command (`run`) or a request (`ask`)."""

    run: Words | None = None
    """A command, as a list of words, with settings filled in."""
    ask: Request | None = None
    """A request of an HTTP interface."""

    @model_validator(mode="after")
    def one_way(self) -> Action:
        if (self.run is None) == (self.ask is None):
            raise ValueError("give either run or ask")
        return self


class Until(KindModel):
    """When a polled response is final: a JSONPath and its required value, or a value that means
    failure.
    """

    jsonpath: str
    """What to look at in the answer."""
    equals: str
    """The value that means it has ended."""
    fails: str | None = None
    """The value that means it has failed."""
    why: str | None = None
    """A JSONPath to the reason, where it has failed."""
    limit: Annotated[int, Field(gt=0, le=86400)] = 600
    """Seconds to wait at most."""


class EachAsked(KindModel):
    """Names that an HTTP interface lists."""

    request: Request
    """The request whose answer lists them."""
    jsonpath: str
    """A JSONPath to the names."""


class Ask(KindModel):
    """A document from an HTTP interface: one request, or start → poll until → fetch.

    ``{job}`` in the later paths is the value ``job`` reads from the response to ``start``.
    """

    each: EachAsked | None = None
    """All of it is repeated for each of these names, as `{each}` in paths (percent-encoded) and in
    the name of the document."""

    start: Request | None = None
    """A request that starts the work."""
    job: str | None = None
    """A JSONPath to the job's id in the answer to `start`, for `{job}`."""
    poll: Request | None = None
    """A request that reports progress."""
    until: Until | None = None
    """When the polled answer is final."""
    fetch: Request
    """The request whose answer is the document."""
    digest: str | None = None
    """A JSONPath, in the final answer to `poll`, to the document's digest as hex (MD5, SHA-1,
    SHA-256, SHA-384 or SHA-512, told apart by its length): half of it is not taken for all."""

    @model_validator(mode="after")
    def whole(self) -> Ask:
        if (self.poll is None) != (self.until is None):
            raise ValueError("poll and until belong together")
        if self.digest is not None and self.poll is None:
            raise ValueError("digest is read from the answer to poll")
        return self
