"""Which of some places a survey has to begin at."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from fennox.engine.reading.file_survey import outermost

# "-" and "." come before "/", letters after it
PLACES = st.lists(
    st.lists(st.sampled_from(["a", "a-b", "a.b", "ab", "b"]), max_size=4).map(
        lambda steps: "/" + "/".join(steps)
    )
)


def _is_below(place: str, other: str) -> bool:
    return place != other and (other == "/" or place.startswith(other + "/"))


@given(PLACES)
def test_the_outermost_are_those_below_no_other(places: list[str]) -> None:
    wanted = {one for one in places if not any(_is_below(one, other) for other in places)}
    found = outermost(places)
    assert len(found) == len(set(found))
    assert set(found) == wanted
