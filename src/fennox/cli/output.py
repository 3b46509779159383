"""Output: tables, JSON with ``--json``, ids only with ``--quiet``. Messages go to standard
error.
"""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Sequence
from datetime import datetime, timedelta
from typing import Any

from pydantic import BaseModel
from rich.cells import cell_len
from rich.console import Console, JustifyMethod
from rich.markup import escape
from rich.text import Text

from fennox.cli.visible import visible
from fennox.core.names import printable


class VisibleConsole(Console):
    """Rich's console, for arbitrary text."""

    def print(self, *objects: Any, **options: Any) -> None:
        super().print(
            *(visible(one) if isinstance(one, str) else one for one in objects), **options
        )


out = VisibleConsole(highlight=False, soft_wrap=False, emoji=False)
err = VisibleConsole(stderr=True, highlight=False, emoji=False)

# less than this is a clock difference, not a date in the future
_CLOCKS_APART = timedelta(minutes=2)
_GAP = 2  # spaces between columns
_NUMBERS = {
    "DOCUMENTS",
    "SIZE",
    "NEW",
    "BACKUPS",
    "BACKUP",
    "FRESH",
    "AFTER",
}  # titles of what is aligned to the right

Column = tuple[str, Callable[..., object]]


def show_list(
    items: Sequence[BaseModel],
    columns: list[Column],
    *,
    as_json: bool,
    quiet: bool,
    key: str,
    none: str,
    spare: Sequence[str] = (),
    if_room: str = "",
) -> None:
    """A list as table, JSON array, or one ``key`` a line. ``none``: the next step, shown for an
    empty list.

    ``spare`` and ``if_room``: as :func:`show_table` has them.
    """
    if as_json:
        print(json.dumps([item.model_dump(mode="json") for item in items], indent=2))
    elif quiet:
        for item in items:
            print(getattr(item, key))
    elif not items:
        say(none)
    else:
        rows = [[cell(item) for _, cell in columns] for item in items]
        show_table([title for title, _ in columns], rows, spare=spare, if_room=if_room)


def show_table(
    titles: list[str], rows: list[list[object]], *, spare: Sequence[str] = (), if_room: str = ""
) -> None:
    """One line per row; cells are folded only on a narrow terminal. ``if_room``: title of a column
    dropped before any cell is folded; ``spare``: titles of columns dropped, one after the other,
    before any word is broken.
    """
    texts = [[printable(str(cell)) for cell in row] for row in rows]
    widths = [max(cell_len(text) for text in column) for column in zip(titles, *texts, strict=True)]
    if out.is_terminal and sum(widths) + _GAP * (len(widths) - 1) > out.width:
        if if_room:
            gone = titles.index(if_room)
            left = [[*row[:gone], *row[gone + 1 :]] for row in rows]
            show_table([*titles[:gone], *titles[gone + 1 :]], left, spare=spare)
            return
        _print_folded(titles, texts, list(spare))
        return
    if any(titles):
        out.print(Text(_line(titles, titles, widths), style="dim"), soft_wrap=True)
    for row in texts:
        out.out(_line(titles, row, widths), highlight=False)


def _line(titles: list[str], row: list[str], widths: list[int]) -> str:
    spaces = [" " * (width - cell_len(text)) for text, width in zip(row, widths, strict=True)]
    cells = [
        space + text if title in _NUMBERS else text + space
        for title, text, space in zip(titles, row, spaces, strict=True)
    ]
    return (" " * _GAP).join(cells).rstrip()


def _print_folded(titles: list[str], texts: list[list[str]], spare: list[str]) -> None:
    """The first column is never broken: it is what people type in the next command."""
    columns = list(zip(titles, *texts, strict=True))
    words = [
        max(cell_len(word) for text in column for word in text.split() or [""])
        for column in columns
    ]
    words[0] = max(cell_len(text) for text in columns[0])
    room = out.width - _GAP * (len(words) - 1)
    if sum(words) > room and spare:
        gone = titles.index(spare[0])
        left = [
            [cell for number, cell in enumerate(row) if number != gone] for row in (titles, *texts)
        ]
        _print_folded(left[0], left[1:], spare[1:])
        return
    from rich.table import Table  # rarely needed; imported late so that commands start quickly

    table = Table(
        box=None, pad_edge=False, header_style="dim", show_edge=False, show_header=any(titles)
    )
    widths = [max(cell_len(text) for text in column) for column in columns]
    while sum(widths) > room >= sum(words):
        widest = max(
            range(len(widths)), key=lambda number: (widths[number] > words[number], widths[number])
        )
        widths[widest] -= 1
    for number, title in enumerate(titles):
        justify: JustifyMethod = "right" if title in _NUMBERS else "left"
        # otherwise words are broken anywhere
        width = widths[number] if sum(words) <= room else None
        table.add_column(title, justify=justify, overflow="fold", no_wrap=number == 0, width=width)
    for row in texts:
        table.add_row(*[Text(text) for text in row])
    out.print(table)


def show_one(
    item: BaseModel, *, as_json: bool, quiet: bool, key: str, lines: list[tuple[str, object]]
) -> None:
    """One thing as labelled lines."""
    if as_json:
        print(json.dumps(item.model_dump(mode="json"), indent=2))
    elif quiet:
        print(getattr(item, key))
    else:
        width = max(len(label) for label, _ in lines)
        for label, value in lines:
            out.print(
                f"[dim]{escape(label.ljust(width))}[/dim]  {escape(printable(str(value)))}",
                soft_wrap=True,
            )


def say(text: str, style: str = "") -> None:
    err.print(escape(text), style=style, soft_wrap=True)


def when(moment: datetime | None) -> str:
    """Local time with zone."""
    return moment.astimezone().strftime("%Y-%m-%d %H:%M %Z") if moment else "-"


def age(moment: datetime | None, now: datetime) -> str:
    """``now``: by the service's clock, which made the moment."""
    if moment is None:
        return "never"
    passed = now - moment
    return span(passed) if passed > -_CLOCKS_APART else f"{span(-passed)} in the FUTURE"


def remaining(moment: datetime, now: datetime) -> str:
    left = moment - now
    return f"in {span(left)}" if left > timedelta() else f"{span(-left)} ago"


def span(length: timedelta) -> str:
    if 0 < length.total_seconds() < 9.95:
        return f"{length.total_seconds():.1f} s"
    seconds = int(length.total_seconds())
    if seconds < 120:
        return f"{max(seconds, 0)} s"
    if seconds < 7200:
        return f"{seconds // 60} min"
    if seconds < 172800:
        return f"{seconds // 3600} h"
    return f"{seconds // 86400} days"


def can_ask() -> bool:
    return sys.stdin.isatty() and sys.stderr.isatty()


def ask(question: str) -> str:
    err.print(escape(question), end=" ", soft_wrap=True)
    return input().strip()
