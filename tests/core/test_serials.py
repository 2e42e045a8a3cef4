import pytest

from mellow_herald.core.refusal import Refused
from mellow_herald.core.serials import ListedSerial, read_serials


def test_a_list_is_read_line_by_line_and_says_what_is_doubled() -> None:
    text = '\ufeffserial,site\nTA-1,fernhollow\n\n# a remark\n  TA-2  # by the gate\n"TA-3";x\nTA-1\nserial\n'
    assert read_serials(text) == [
        ListedSerial(2, "TA-1"),
        ListedSerial(5, "TA-2"),
        ListedSerial(6, "TA-3"),
        ListedSerial(7, "TA-1", first_at=2),
        ListedSerial(8, "serial"),
    ]


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "names no device"),
        ("# nothing\n\n", "names no device"),
        ("TA-1\nTA 2\n", "line 2 is 'TA 2'"),
        ("TA-1\n" + "x" * 101, "line 2"),
        ("a\x07b", "line 1"),
        ("\n".join(f"TA-{n}" for n in range(100_001)), "more than 100000 devices"),
    ],
)
def test_what_can_be_no_list_is_refused_with_its_line(text: str, says: str) -> None:
    with pytest.raises(Refused, match=says):
        read_serials(text)


def test_a_hundred_thousand_are_taken() -> None:
    assert len(read_serials("\n".join(f"TA-{n}" for n in range(100_000)))) == 100_000
