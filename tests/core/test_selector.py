import pytest

from mellow_herald.core.refusal import Refused
from mellow_herald.core.selector import And, Compare, Not, OneOf, Or, matches, parse_selector

DEVICE = {
    "serial": "TA-1",
    "board": "comb-s1",
    "line": "hive-scale",
    "hw_rev": 2,
    "version": "2.4.0",
    "floor": 4,
    "site": "fernhollow",
    "known_build": True,
    "in_rollout": False,
    "components": {"radio": "1.10.0"},
    "seen": 2 * 86400 + 60,
    "presence": "offline",
    "battery": 22,
    "charging": False,
    "link": "wifi",
}


@pytest.mark.parametrize(
    ("text", "picked"),
    [
        ("board = comb-s1", True),
        ("board = comb-s2", False),
        ("board != comb-s2", True),
        ("board = comb-s1 and site in (fernhollow, quillmere)", True),
        ("site = quillmere or hw_rev = 2", True),
        ("not (site = quillmere or hw_rev = 2)", False),
        ("hw_rev >= 2 and hw_rev < 3", True),
        ("hw_rev in (1, 3)", False),
        ("version < 2.4.1", True),
        ("version < 2.4.0-rc.1", False),
        ("version in (2.4.0, 2.5.0)", True),
        ("label.site = fernhollow", True),
        ('site = "fernhollow"', True),
        ("yard = north", False),
        ("yard != north", True),
        ("not yard = north", True),
        ("gateway < zzz", False),
        ("known_build = yes", True),
        ("in_rollout = no", True),
        ("serial = TA-1", True),
        ("board=comb-s1 and(hw_rev=2)", True),
        ('site ~ "fern*"', True),
        ("site ~ fern*", True),
        ("site ~ *hollow and serial ~ TA-?", True),
        ("site ~ hollow", False),
        ("yard ~ *", False),
        ("has site and not has yard", True),
        ("has label.site", True),
        ("has radio.version and not has boot.version", True),
        ("radio.version >= 1.2.0", True),
        ("radio.version < 1.2.0 or boot.version = 1.0.0", False),
        ("seen > 2d", True),
        ("seen > 2d1h", False),
        ("seen < 3d and presence = offline", True),
        ("battery < 30 and charging = no and link = wifi", True),
    ],
)
def test_what_is_picked(text: str, picked: bool) -> None:
    assert matches(parse_selector(text), DEVICE) is picked


def test_and_binds_tighter_than_or() -> None:
    a, b, c = Compare("a", "=", "1"), Compare("b", "=", "2"), Compare("c", "=", "3")
    assert parse_selector("a = 1 or b = 2 and c = 3") == Or((a, And((b, c))))
    assert parse_selector("not a = 1 and b = 2") == And((Not(a), b))
    assert parse_selector("hw_rev in (1, 2)") == OneOf("hw_rev", (1, 2))


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "ends too early"),
        ("board =", "ends too early"),
        ("board = comb-s1 and", "ends too early"),
        ("board == comb-s1", "character 8"),
        ("(board = x", "ends too early"),
        ("board = x)", "character 10"),
        ("board = x y", "character 11"),
        ("hw_rev = two", "takes a whole number, not 'two'"),
        ("version < newest", "is not a version"),
        ("known_build = maybe", "takes yes or no"),
        ("known_build > yes", "cannot be compared"),
        ("and = or", "character 1"),
        ("hwrev = 2", "hwrev is no fact; hw_rev is"),
        ("bord = comb-s1", "label.bord for a label"),
        ("seen > yesterday", "not a duration"),
        ('hw_rev ~ "2*"', "not text"),
        ("has", "ends too early"),
        ("battery < low", "takes a whole number"),
        ("radio.version < new", "is not a version"),
        ("a = 1" + " and a = 1" * 999, "longer than"),
        ("hw_rev = ٣", "character 10"),
        ("(" * 300 + "a = 1" + ")" * 300, "more than 200"),
        ("not " * 300 + "a = 1", "more than 200"),
    ],
)
def test_mistakes_are_pointed_at(text: str, said: str) -> None:
    with pytest.raises(Refused, match=said):
        parse_selector(text)
