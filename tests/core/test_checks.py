from dataclasses import replace
from datetime import UTC, datetime
from typing import Any

import pytest

from mellow_herald.core.appearance import Appearance, Kind
from mellow_herald.core.board import BoardFacts, BoardSlot, Runs, image_words
from mellow_herald.core.checks import check_release
from mellow_herald.core.leaks import Leak, LeakKind
from mellow_herald.core.nameplate import Nameplate
from mellow_herald.core.suit import Component, Manifest
from mellow_herald.core.verdict import Allowed, Check, ChecksFailed, Earlier, Reading, Verdict, refused

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)
SLOTS = (
    BoardSlot("a", 60_000, 0x0802_0000),
    BoardSlot("b", 50_000, 0x080A_0000),
    BoardSlot("files", 9000, None, "assets"),
)
BOARD = BoardFacts("comb-s1", "thistledown.example", ("hive-scale", "feed-pump"), (1, 2, 3), SLOTS)
APP = Component("app", "2.5.0", "a" * 64, 20_000, build_time=1_795_000_000)
RELEASE = Manifest("thistledown.example", "hive-scale", "comb-s1", "2.5.0", 4, (APP,), 1, 3)
LOWER = replace(RELEASE, version="2.3.9")
PLATE = Nameplate("hive-scale", "comb-s1", "app", "2.5.0", 4, build_time=1_795_000_000, hw_rev_min=1, hw_rev_max=3)
OLD = Earlier("2.4.0", 4, False, (Component("app", "2.4.0", "b" * 64, 19_500),))


def app(**change: Any) -> Manifest:
    return replace(RELEASE, components=(replace(APP, **change),))


def run(
    release: Manifest = RELEASE,
    board: BoardFacts | None = BOARD,
    earlier: tuple[Earlier, ...] | None = (OLD,),
    allowed: Allowed = Allowed(),
    plate: Nameplate | None = PLATE,
    seems: Appearance | None = None,
) -> tuple[Check, ...]:
    readings = {one.digest: Reading(plate, seems) for one in release.components}
    return check_release(release, board, earlier, NOW, allowed, readings)


def verdict(checks: tuple[Check, ...], name: str) -> tuple[Verdict, str]:
    """The worst verdict of the checks of this name, and its kind."""
    found = [check for check in checks if check.name == name]
    worst = max(found, key=lambda check: list(Verdict).index(check.verdict))
    return worst.verdict, worst.kind


def test_a_good_release_passes_everything() -> None:
    checks = run()
    assert {check.verdict for check in checks} == {Verdict.PASS}
    names = [check.name for check in checks]
    assert names == [
        "nameplate",
        "board",
        "size",
        "version",
        "floor number",
        "bytes",
        "updater",
        "build time",
        "growth",
    ]


@pytest.mark.parametrize(
    ("case", "name", "expected", "kind"),
    [
        (dict(plate=None), "nameplate", Verdict.WARN, ""),
        (dict(plate=replace(PLATE, version="2.4.9")), "nameplate", Verdict.REFUSE, "nameplate-contradicts"),
        (dict(plate=replace(PLATE, updater=0)), "nameplate", Verdict.REFUSE, "nameplate-contradicts"),
        (dict(plate=replace(PLATE, floor=5)), "nameplate", Verdict.REFUSE, "nameplate-contradicts"),
        (dict(plate=replace(PLATE, hw_rev_max=2)), "nameplate", Verdict.REFUSE, "nameplate-contradicts"),
        (dict(board=None), "board", Verdict.REFUSE, "unknown-board"),
        (dict(release=replace(RELEASE, line="forage-sensor")), "board", Verdict.REFUSE, "unknown-line"),
        (dict(release=replace(RELEASE, vendor_domain="x.example")), "board", Verdict.REFUSE, "wrong-vendor"),
        (dict(release=replace(RELEASE, hw_rev_min=7, hw_rev_max=9)), "board", Verdict.REFUSE, "unknown-revision"),
        (dict(release=app(size=50_001)), "size", Verdict.REFUSE, "too-large-for-slot"),
        (dict(release=app(size=50_000)), "size", Verdict.PASS, ""),
        (dict(release=app(size=55_000, slot=0)), "size", Verdict.PASS, ""),
        (dict(release=app(slot=2)), "size", Verdict.REFUSE, "unknown-slot"),
        (dict(release=app(name="radio")), "size", Verdict.REFUSE, "no-slot"),
        (dict(release=app(address=0x0802_0000)), "link address", Verdict.PASS, ""),
        (dict(release=app(address=0x0800_0000)), "link address", Verdict.REFUSE, "wrong-address"),
        (dict(release=app(address=0x080A_0000, slot=0)), "link address", Verdict.REFUSE, "wrong-address"),
        (dict(release=replace(RELEASE, version="2.3.9")), "version", Verdict.REFUSE, "version-not-higher"),
        (dict(release=replace(RELEASE, version="2.4.0-rc.1")), "version", Verdict.REFUSE, "version-not-higher"),
        (dict(release=replace(RELEASE, version="2.4.0")), "version", Verdict.REFUSE, "release-exists"),
        (dict(release=LOWER, allowed=Allowed(lower_version=True)), "version", Verdict.WARN, ""),
        (dict(earlier=()), "version", Verdict.PASS, ""),
        (dict(release=replace(RELEASE, floor=3)), "floor number", Verdict.REFUSE, "floor-too-low"),
        (dict(release=replace(RELEASE, floor=5)), "floor number", Verdict.WARN, ""),
        (dict(earlier=(replace(OLD, floor=9, withdrawn=True),)), "floor number", Verdict.PASS, ""),
        (dict(release=app(digest="b" * 64)), "bytes", Verdict.REFUSE, "same-bytes"),
        (dict(release=app(version="2.4.0")), "bytes", Verdict.REFUSE, "other-bytes"),
        (dict(release=app(digest="b" * 64, version="2.4.0")), "bytes", Verdict.PASS, ""),
        (dict(release=app(updater=0)), "updater", Verdict.REFUSE, "no-updater"),
        (dict(release=app(updater=0), allowed=Allowed(cut_off_for_good=True)), "updater", Verdict.WARN, ""),
        (dict(release=app(build_time=1_795_600_000)), "build time", Verdict.WARN, ""),
        (dict(release=app(build_time=2**52)), "build time", Verdict.WARN, ""),
        (dict(release=app(size=30_000)), "growth", Verdict.WARN, ""),
        (dict(release=app(size=9_000)), "growth", Verdict.WARN, ""),
        (dict(release=app(size=22_000)), "growth", Verdict.PASS, ""),
    ],
)
def test_each_check(case: dict[str, Any], name: str, expected: Verdict, kind: str) -> None:
    checks = run(**case)
    assert verdict(checks, name) == (expected, kind)
    for check in checks:
        assert check.detail.endswith("."), "a whole sentence"
        assert bool(check.kind) == (check.verdict is Verdict.REFUSE)


def test_code_that_runs_only_where_it_is_linked_needs_an_image_for_each_slot() -> None:
    fixed = replace(BOARD, runs=Runs.WHERE_LINKED)
    for_a, for_b = replace(APP, slot=0, address=0x0802_0000), replace(APP, slot=1, address=0x080A_0000, digest="c" * 64)
    assert verdict(run(board=fixed), "link address") == (Verdict.REFUSE, "slot-missing")
    only = replace(RELEASE, components=(for_a,))
    assert verdict(run(only, fixed), "link address") == (Verdict.REFUSE, "slot-missing")
    both = replace(RELEASE, components=(for_a, for_b))
    assert verdict(run(both, fixed), "link address")[0] is Verdict.PASS
    single = replace(fixed, slots=SLOTS[:1])
    assert verdict(run(app(address=0x0802_0000), single), "link address")[0] is Verdict.PASS
    assert verdict(run(board=single), "link address")[0] is Verdict.WARN, "a raw binary does not say"
    assets = replace(RELEASE, components=(Component("assets", "1.0.0", "e" * 64, 5000),))
    names = {check.name for check in run(assets, fixed, plate=None)}
    assert "link address" not in names, "where a slot has no address there is nothing to say"


def test_a_mapped_board_takes_one_image_linked_for_its_run_address() -> None:
    mapped = replace(BOARD, runs=Runs.MAPPED, run_address=0x1000_0000)
    assert verdict(run(app(address=0x1000_0000), mapped), "link address")[0] is Verdict.PASS
    assert verdict(run(app(address=0x0802_0000), mapped), "link address") == (Verdict.REFUSE, "wrong-address")
    assert verdict(run(board=mapped), "link address")[0] is Verdict.WARN, "a raw binary does not say"
    assert "slot-missing" not in {check.kind for check in run(app(address=0x1000_0000), mapped)}, "one fits both"


def test_slots_are_called_as_the_board_calls_them() -> None:
    fixed = replace(BOARD, runs=Runs.WHERE_LINKED)
    both = (replace(APP, slot=0, address=0x0802_0000), replace(APP, slot=1, address=0x080A_0000, digest="c" * 64))
    said = " ".join(check.detail for check in run(replace(RELEASE, components=both), fixed))
    assert "app for slot a" in said and "app for slot b" in said and "slot 0" not in said
    assert image_words("app", 1, None) == "app for slot number 2", "where the board is not known"


SECRET = Leak(LeakKind.PERSON_TOKEN, 4096, "mht_something")
KEY = Leak(LeakKind.PRIVATE_KEY, 77)


@pytest.mark.parametrize(
    ("leak", "proven", "why", "expected"),
    [
        (KEY, False, "", (Verdict.REFUSE, "secret-private-key")),
        (KEY, True, "a test key of the boot loader", (Verdict.WARN, "")),
        (SECRET, False, "", (Verdict.WARN, "")),
        (SECRET, True, "", (Verdict.REFUSE, "secret-access-token")),
        (SECRET, True, "made for this device alone", (Verdict.WARN, "")),
    ],
)
def test_a_secret_in_an_image_is_refused_with_its_place(
    leak: Leak, proven: bool, why: str, expected: tuple[Verdict, str]
) -> None:
    readings = {APP.digest: Reading(PLATE, None, (leak,), proven)}
    checks = check_release(RELEASE, BOARD, (OLD,), NOW, Allowed(keeps_secret=why), readings)
    assert verdict(checks, "secrets") == expected
    (check,) = [check for check in checks if check.name == "secrets"]
    assert f"offset {leak.offset}" in check.detail and "mht_" not in str(check) and why in check.detail


def test_what_looks_wrong_is_refused_whatever_nameplate_is_in_it_unless_the_engineer_says_otherwise() -> None:
    seems = Appearance(Kind.FILE_SYSTEM, "a SquashFS image", "Pass the application's image.")
    assert verdict(run(seems=seems, plate=None), "kind of file") == (Verdict.REFUSE, "file-system")
    assert verdict(run(seems=seems), "kind of file") == (Verdict.REFUSE, "file-system")
    tar = Appearance(Kind.ARCHIVE, "a tar archive", "Unpack it.")
    assert verdict(run(seems=tar), "kind of file") == (Verdict.REFUSE, "archive")
    dump = Appearance(Kind.WHOLE_FLASH, "a dump of a whole flash", "Pass the image of the one slot.")
    assert verdict(run(seems=dump), "kind of file") == (Verdict.REFUSE, "whole-flash")
    assert verdict(run(app(size=60_000), seems=dump), "kind of file")[0] is Verdict.WARN, "padded to its slot"
    assert verdict(run(seems=seems, plate=None, allowed=Allowed(as_is=True)), "kind of file")[0] is Verdict.WARN
    assets = replace(RELEASE, components=(Component("assets", "1.0.0", "e" * 64, 5000),))
    assert verdict(run(assets, seems=seems, plate=None), "kind of file")[0] is Verdict.WARN
    assert verdict(run(assets, seems=tar, plate=None), "kind of file") == (Verdict.REFUSE, "archive")
    key = Appearance(Kind.PRIVATE_KEY, "a private key", "Keep it.", never=True)
    assert verdict(run(seems=key, allowed=Allowed(as_is=True)), "kind of file") == (Verdict.REFUSE, "private-key")


def test_a_release_may_change_only_assets() -> None:
    assets = replace(RELEASE, version="2.5.1", components=(Component("assets", "1.0.0", "e" * 64, 5000),))
    checks = run(assets, plate=None)
    assert not refused(checks)
    assert "updater" not in {check.name for check in checks}, "only app updates itself"


def test_without_knowing_what_was_published_nothing_is_said_of_it() -> None:
    names = {check.name for check in run(earlier=None)}
    assert not names & {"version", "floor number", "bytes", "growth"}
    early = check_release(RELEASE, BOARD, (OLD,), NOW)
    assert "nameplate" not in {check.name for check in early}


def test_a_refusal_counts_the_others() -> None:
    failed = ChecksFailed(run(app(size=70_000, updater=0), plate=replace(PLATE, updater=0)))
    assert failed.kind == "too-large-for-slot"
    assert "And 1 more: updater" in str(failed)
