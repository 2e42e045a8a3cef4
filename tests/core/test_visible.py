import pytest
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.visible import OBEYED, visible


@pytest.mark.parametrize(
    ("said", "shown"),
    [
        ("hive scale", "hive scale"),
        ("\x1b]52;c;cm0gLXJm\x07", "␛]52;c;cm0gLXJm␇"),
        ("a\r\nb\tc\x7f", "a␍␊b␉c␡"),
        ("\x9b31m", "⟨U+009B⟩31m"),
        ("fern\u202ehollow", "fern⟨U+202E⟩hollow"),
        ("\x00", "␀"),
        ("Füße, 蜂, 🐝", "Füße, 蜂, 🐝"),
    ],
)
def test_what_a_terminal_obeys_is_shown(said: str, shown: str) -> None:
    assert visible(said) == shown


@given(st.text())
def test_nothing_that_is_obeyed_is_left_and_all_else_stays(said: str) -> None:
    assert not OBEYED.search(visible(said))
    assert OBEYED.sub("", said) == "".join(one for one in said if visible(one) == one)
    assert visible(visible(said)) == visible(said)


def test_lines_may_be_kept() -> None:
    assert visible("a\nb\x1b", keep="\n") == "a\nb␛"
