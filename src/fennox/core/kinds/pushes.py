"""Sources that a system sends by itself, or when it is asked, instead of being read."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, model_validator

from fennox.core.kinds.actions import Action, KindModel, Request, Until


class Manifest(KindModel):
    """A pushed file that lists the others."""

    file: str
    """A pattern of its name; it is a document like the others."""
    names: str
    """A regular expression with one group: the name of a file, in each line that lists one."""
    digests: str | None = None
    """A regular expression with one group: the digest in the same line (MD5, SHA-1, SHA-256,
    SHA-384 or SHA-512 as hex, told apart by their length)."""


class Push(KindModel):
    """Documents that the system sends to its drop.

    What has arrived is taken into a backup when it is whole and nothing has been written for a
    while. It is whole when every pattern of ``files`` is met, what the manifest lists is there, and
    there are as many as ``count`` says.
    """

    files: Annotated[list[str], Field(min_length=1)]
    """Patterns of names within the system's folder at the drop, without a slash before them."""
    perhaps: list[str] = []
    """Further patterns, of files that are not always sent."""
    manifest: Manifest | None = None
    """A file among them that lists the others."""
    count: Annotated[int | None, Field(ge=1)] = None
    """How many files it is."""
    named: str | None = None
    """A regular expression with one group: what of a file's name stands for `{name}`, where names
    bear the time or whichever member pushed. Of several files that it makes alike the newest one is
    taken."""
    fits: str | None = None
    """A regular expression that something in each of `files` must fit, so that no other content is
    taken for it."""
    quiet: Annotated[int, Field(ge=1, le=86400)] = 30
    """Seconds for which nothing must have been written before it counts as whole."""
    every: Annotated[int | None, Field(ge=1, le=8784)] = None
    """Hours after which the next one is expected by itself."""
    start: Action | None = None
    """The command or request that asks for it; without it, it comes by itself."""
    job: str | None = None
    """A JSONPath to the job's id in the answer to `start`, for `{job}`."""
    poll: Request | None = None
    """A request that reports progress."""
    until: Until | None = None
    """When the polled answer is final."""
    within: Annotated[int, Field(ge=1, le=86400)] = 1800
    """Seconds after the asking in which all of it must have arrived."""

    @model_validator(mode="after")
    def whole_table(self) -> Push:
        if (self.poll is None) != (self.until is None):
            raise ValueError("poll and until belong together")
        if self.start is None and (self.poll is not None or self.job is not None):
            raise ValueError("poll and job follow a start")
        if self.start is not None and self.every is not None:
            raise ValueError("every is for what comes by itself, and start asks for it")
        if self.start is None and self.every is None:
            raise ValueError("say either how it is asked for (start) or when it is due (every)")
        if any(text.startswith("/") for text in (*self.files, *self.perhaps)):
            raise ValueError("patterns of pushed files do not begin with a slash")
        return self
