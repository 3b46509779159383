"""Tables: a row is a line, whatever stands in it, and what is typed in the next command is never
cut in two.
"""

from __future__ import annotations

import io

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import BaseModel
from rich.cells import cell_len
from rich.console import Console

from fennox.cli import output
from fennox.cli.estate.run_sheets import by_folder
from fennox.core.names import printable

TITLES = ["SYSTEM", "KIND", "SIZE", "NEXT RUN"]
CELLS = st.one_of(st.text(max_size=40), st.integers(min_value=0))


def printed(
    rows: list[list[object]],
    *,
    width: int = 80,
    terminal: bool = False,
    spare: tuple[str, ...] = (),
    if_room: str = "",
) -> list[str]:
    console = Console(
        file=io.StringIO(), width=width, force_terminal=terminal, color_system=None, highlight=False
    )
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(output, "out", console)
        output.show_table(TITLES, rows, spare=spare, if_room=if_room)
    assert isinstance(console.file, io.StringIO)
    return console.file.getvalue().split("\n")[:-1]


@given(st.lists(st.tuples(CELLS, CELLS, CELLS, CELLS), max_size=8))
def test_every_row_is_one_line_however_long_and_columns_stand_below_each_other(
    rows: list[tuple[object, ...]],
) -> None:
    header, *lines = printed([list(row) for row in rows])
    assert len(lines) == len(rows)
    assert all(line.isprintable() for line in lines)
    begins = cell_len(header[: header.index("KIND")])
    for line, row in zip(lines, rows, strict=True):
        first = printable(str(row[0]))
        assert line.startswith(first.rstrip())
        assert cell_len(first) <= begins - 2
        second = printable(str(row[1])).rstrip()
        assert line.ljust(begins)[begins - cell_len(first) + len(first) :].startswith(second)


def test_numbers_stand_at_the_right_and_what_cannot_be_printed_is_seen() -> None:
    assert printed([["web-9", "a\x1b[2Jb\n", 5, "-"], ["quay", "[red]", 12345, "x"]]) == [
        "SYSTEM  KIND          SIZE  NEXT RUN",
        r"web-9   a\x1b[2Jb\n      5  -",
        "quay    [red]        12345  x",
    ]


@pytest.mark.parametrize("width", [60, 72])
def test_only_a_terminal_that_is_too_narrow_folds_and_never_the_first_column(width: int) -> None:
    name, words = (
        "gannet-point-tickets-3",
        "nothing that anybody would type again, and far too long for it",
    )
    rows: list[list[object]] = [[name, words, 7, "2026-11-26 02:40 CET"]]
    assert len(printed(rows, width=width)) == 2
    assert len(printed(rows, width=200, terminal=True)) == 2
    folded = printed(rows, width=width, terminal=True)
    assert len(folded) > 2
    assert sum(name in line for line in folded) == 1
    assert all(cell_len(line) <= width for line in folded)
    assert "".join("".join(folded[1:]).split()).count("anybody") == 1


def test_columns_that_can_be_spared_go_before_a_word_is_broken() -> None:
    rows: list[list[object]] = [["northness-watch", "storage-server", 12, "2026-11-26 02:40 CET"]]
    assert [
        line.rstrip() for line in printed(rows, width=50, terminal=True, spare=("KIND", "SIZE"))
    ] == [
        "SYSTEM           KIND            SIZE  NEXT RUN",
        "northness-watch  storage-server    12  2026-11-26",
        "                                       02:40 CET",
    ]
    assert [
        line.rstrip() for line in printed(rows, width=36, terminal=True, spare=("KIND", "SIZE"))
    ] == [
        "SYSTEM           SIZE  NEXT RUN",
        "northness-watch    12  2026-11-26",
        "                       02:40 CET",
    ]
    broken = printed(rows, width=30, terminal=True)
    assert "northness-watch" in broken[1] + broken[2]
    assert all(cell_len(line) <= 30 for line in broken)


def test_a_column_for_which_there_is_no_room_goes_before_a_line_is_folded() -> None:
    rows: list[list[object]] = [["northness-watch", "before the change of the watch", 3, "soon"]]
    wide, narrow = (printed(rows, width=width, terminal=True, if_room="KIND") for width in (80, 40))
    assert "before the change" in wide[1]
    assert [line.rstrip() for line in narrow] == [
        "SYSTEM           SIZE  NEXT RUN",
        "northness-watch     3  soon",
    ]


class Shown(BaseModel):
    title: str
    value: str


def test_a_fingerprint_is_printed_as_it_is(capsys: pytest.CaptureFixture[str]) -> None:
    """`:AB:` within one became a picture."""
    said = "SHA-256 C8:AB:1F:CD:00"
    made = Shown(title="certificate", value=said)
    output.show_one(made, as_json=False, quiet=False, key="title", lines=[("certificate", said)])
    output.say(said)
    printed = capsys.readouterr()
    assert said in printed.out
    assert said in printed.err


def test_many_added_documents_are_counted_by_folder() -> None:
    few = ["/etc/fstab", "/etc/saltmere/000.conf"]
    assert by_folder(few) == few
    many = ["/etc/fstab", *[f"/etc/saltmere/{number:03}.conf" for number in range(40)], "about"]
    assert by_folder(many) == ["/etc/fstab", "/etc/saltmere/* (40)", "about"]
