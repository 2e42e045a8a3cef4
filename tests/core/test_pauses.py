from mellow_herald.core.pauses import KEPT, REMEMBERED_S, Pauses


def test_the_first_failures_are_free_and_the_pauses_grow_to_a_minute() -> None:
    pauses, now, waits = Pauses(), 100.0, []
    for _ in range(14):
        pauses.count(["admin"], now)
        waits.append(pauses.wait(["admin"], now))
        now += waits[-1]
        assert pauses.wait(["admin"], now) <= 0, "after the pause it may be tried"
    assert waits == [0, 0, 0, 0, 1, 2, 4, 8, 16, 32, 60, 60, 60, 60]


def test_the_longest_of_several_keys_counts_and_others_are_not_held_up() -> None:
    pauses = Pauses(free=1)
    pauses.count(["a", "b"], 0.0)
    pauses.count(["b"], 0.0)
    assert (pauses.wait(["a", "b"], 0.0), pauses.wait(["a"], 0.0), pauses.wait(["c"], 0.0)) == (2, 1, 0)
    pauses.forgive(["b"])
    assert pauses.wait(["a", "b"], 0.0) == 1


def test_what_is_long_ago_is_forgotten() -> None:
    pauses = Pauses(free=2)
    pauses.count(["a"], 0.0)
    pauses.count(["a"], REMEMBERED_S + 1)
    assert pauses.wait(["a"], REMEMBERED_S + 1) == 0
    pauses.count(["a"], REMEMBERED_S + 2)
    assert pauses.wait(["a"], REMEMBERED_S + 2) == 1


def test_ever_new_keys_take_no_more_room() -> None:
    pauses = Pauses(free=1)
    for number in range(2 * KEPT):
        pauses.count([number], 0.0)
    assert KEPT * 0.9 <= len(pauses._failures) <= KEPT
    assert pauses.wait([2 * KEPT - 1], 0.0) == 1
