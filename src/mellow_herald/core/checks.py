"""What publishing looks at before a release is taken: each a line with pass, warn or refuse, and what to do.

The same lines are shown on the engineer's machine before anything is signed (``herald image look``) and decide at the
service when the release comes in.
"""

from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, datetime, timedelta

from mellow_herald.core.appearance import CARRIERS, appearance_of
from mellow_herald.core.appearance import Kind as Looks
from mellow_herald.core.board import BoardFacts, BoardSlot, Runs, image_words
from mellow_herald.core.component import Kind
from mellow_herald.core.firmware import APP
from mellow_herald.core.leaks import NAMES, LeakKind
from mellow_herald.core.place_checks import check_places
from mellow_herald.core.suit import Component, Manifest
from mellow_herald.core.verdict import Allowed, Check, Earlier, Reading, Verdict
from mellow_herald.core.version import parse_version

USUAL_CHANGE = 0.25
CLOCK_SKEW = timedelta(minutes=10)


def check_release(
    release: Manifest,
    board: BoardFacts | None,
    earlier: Sequence[Earlier] | None,
    now: datetime,
    allowed: Allowed = Allowed(),
    readings: Mapping[str, Reading] | None = None,
) -> tuple[Check, ...]:
    """All checks of a release, in the order in which an engineer thinks of them.

    ``readings`` are by image digest; None while the images' bytes are not there yet. ``earlier`` is None where it is
    not known what was published before. What needs the one or the other is left out then.
    """
    found: list[Check] = []
    if readings is not None:
        found += _nameplates(release, readings, board)
        found += _appearances(release, readings, allowed, board)
        found += _leaks(release, readings, allowed, board)
    found += _board(release, board)
    if board is not None:
        found += _slots(release, board)
        found += check_places(release, board, readings or {}, now)
    if earlier is not None:
        found += [_version(release, earlier, allowed), _floor(release, earlier), *_labels(release, earlier, board)]
    found += _updater(release, allowed)
    found += _build_times(release, now)
    if earlier is not None:
        found += _sizes(release, earlier, board)
    return tuple(found)


def _image(one: Component, board: BoardFacts | None) -> str:
    return image_words(one.name, one.slot, board)


def _firmware(release: Manifest) -> list[Component]:
    return [one for one in release.components if one.kind is Kind.FIRMWARE]


def _alike(release: Manifest, earlier: Earlier) -> bool:
    """Whether one follows the other: files alone, say, have versions of their own beside those of the firmware."""
    own, before = ({one.name for one in components} for components in (release.components, earlier.components))
    return (APP in own) == (APP in before) and bool(own & before)


def _nameplates(release: Manifest, readings: Mapping[str, Reading], board: BoardFacts | None) -> Iterator[Check]:
    for one in _firmware(release):
        plate = readings[one.digest].plate
        if plate is None:
            yield Check(
                "nameplate",
                Verdict.WARN,
                f"{_image(one, board)}: no nameplate in the image; its values were stated by hand.",
                "Link a nameplate into the firmware, so that no version label can stand on other bytes.",
            )
            continue
        signed = {
            "line": release.line,
            "board": release.board,
            "component": one.name,
            "version": one.version,
            "updater": one.updater,
            "build_id": one.build_id,
            "build_time": one.build_time,
        }
        wrong = [
            f"{name} {getattr(plate, name)!r}, not {value!r}"
            for name, value in signed.items()
            if getattr(plate, name) != value
        ]
        if plate.floor > release.floor:
            wrong.append(f"floor number {plate.floor}, above the release's {release.floor}")
        if plate.hw_rev_min > release.hw_rev_min or plate.hw_rev_max < release.hw_rev_max:
            wrong.append(f"hw_rev {plate.hw_rev_min}–{plate.hw_rev_max}, narrower than the release's")
        if wrong:
            yield Check(
                "nameplate",
                Verdict.REFUSE,
                f"{_image(one, board)}: the nameplate in the image says {'; '.join(wrong)}.",
                "The manifest must say what the image says: seal it again.",
                "nameplate-contradicts",
            )
        else:
            yield Check("nameplate", Verdict.PASS, f"{_image(one, board)}: read from the image, {plate.version}.")


def _appearances(
    release: Manifest, readings: Mapping[str, Reading], allowed: Allowed, board: BoardFacts | None
) -> Iterator[Check]:
    for one in _firmware(release):
        seems = readings[one.digest].appearance
        if seems is None:
            continue
        words = f"{_image(one, board)}: the file seems to be {seems.words}."
        if seems.never:
            yield Check("kind of file", Verdict.REFUSE, words, seems.mend, seems.kind.value)
        elif allowed.as_is or (one.name != APP and seems.kind not in CARRIERS):
            yield Check("kind of file", Verdict.WARN, words)
        elif seems.kind is Looks.WHOLE_FLASH and _fills_a_slot(one, board):
            yield Check("kind of file", Verdict.WARN, f"{words} But it is just as large as a slot.")
        else:
            mend = f"{seems.mend} If it is what the device boots, say so with --as-is."
            yield Check("kind of file", Verdict.REFUSE, words, mend, seems.kind.value)


def _fills_a_slot(one: Component, board: BoardFacts | None) -> bool:
    """Images that are padded to the slot, with the boot loader's record at its end, have blank sectors too."""
    return board is not None and any(slot.size == one.size for slot in board.slots_of(one.name))


def _leaks(
    release: Manifest, readings: Mapping[str, Reading], allowed: Allowed, board: BoardFacts | None
) -> Iterator[Check]:
    for one in release.components:
        reading = readings[one.digest]
        for leak in reading.leaks:
            words = f"{_image(one, board)}: {leak.description}."
            if leak.kind is not LeakKind.PRIVATE_KEY and not reading.proven:
                unproven = f"what looks like {leak.description}; the service refuses it if it is a real one."
                words = f"{_image(one, board)}: {unproven}"
                yield Check("secrets", Verdict.WARN, words)
            elif allowed.keeps_secret:
                yield Check("secrets", Verdict.WARN, f"{words} That was asked for: {allowed.keeps_secret}")
            else:
                mend = (
                    f"Whoever has the image has it too: take {NAMES[leak.kind]} out of the build and make a new one. "
                    "If it must be in there, say why with --keeps-secret REASON."
                )
                yield Check("secrets", Verdict.REFUSE, words, mend, f"secret-{leak.kind.value}")


def _board(release: Manifest, board: BoardFacts | None) -> Iterator[Check]:
    if board is None:
        yield Check(
            "board",
            Verdict.REFUSE,
            f"there is no board {release.board!r}.",
            "Add it first with `herald board add FILE`.",
            "unknown-board",
        )
        return
    if release.line not in board.lines:
        yield Check(
            "board",
            Verdict.REFUSE,
            f"board {board.name} serves {', '.join(board.lines)}, not {release.line}.",
            "Correct the line, or add it to the board's file and run `herald board add` again.",
            "unknown-line",
        )
    elif release.vendor_domain != board.vendor_domain:
        yield Check(
            "board",
            Verdict.REFUSE,
            f"the release is signed for {release.vendor_domain}, the board belongs to {board.vendor_domain}.",
            "Seal it for the board's vendor domain; its devices accept no other.",
            "wrong-vendor",
        )
    elif not any(release.hw_rev_min <= revision <= release.hw_rev_max for revision in board.hw_revs):
        known = ", ".join(map(str, board.hw_revs))
        yield Check(
            "board",
            Verdict.REFUSE,
            f"the release is for revisions {release.hw_rev_min}–{release.hw_rev_max}; {board.name} has {known}.",
            "Correct hw_rev on the nameplate, or add the revision to the board's file.",
            "unknown-revision",
        )
    else:
        yield Check("board", Verdict.PASS, f"{board.name} serves {release.line}.")


def _slots(release: Manifest, board: BoardFacts) -> Iterator[Check]:
    for name in dict.fromkeys(one.name for one in _firmware(release)):
        slots, images = board.slots_of(name), release.images_of(name)
        if not slots:
            yield Check(
                "size",
                Verdict.REFUSE,
                f"board {board.name} has no slot for component {name}.",
                f'Add one to the board\'s file: component = "{name}".',
                "no-slot",
            )
            continue
        for one in images:
            yield _size(one, slots, board)
        yield from _addresses(name, images, slots, board)


def _size(one: Component, slots: Sequence[BoardSlot], board: BoardFacts) -> Check:
    if one.slot is not None and one.slot >= len(slots):
        return Check(
            "size",
            Verdict.REFUSE,
            f"{_image(one, board)}: {board.name} has {len(slots)} slots for it, counted from 0.",
            "Correct the slot it is sealed for.",
            "unknown-slot",
        )
    room = slots[one.slot].size if one.slot is not None else min(slot.size for slot in slots)
    if one.size > room:
        dump = appearance_of(b"", one.size, room)
        seems = f" It seems to be {dump.words}." if dump else ""
        return Check(
            "size",
            Verdict.REFUSE,
            f"component {_image(one, board)} has {one.size} bytes, a slot of {board.name} has {room}.{seems}",
            "Build a smaller image, or correct the board's slots.",
            "too-large-for-slot",
        )
    return Check(
        "size", Verdict.PASS, f"{_image(one, board)}: {one.size} bytes, {100 * one.size / room:.3g} % of the slot."
    )


def _addresses(
    name: str, images: Sequence[Component], slots: Sequence[BoardSlot], board: BoardFacts
) -> Iterator[Check]:
    given = ", ".join(f"{slot.name} at {slot.address:#x}" for slot in slots if slot.address is not None)
    if board.runs is Runs.MAPPED and name == APP:
        yield from _run_address(images, board)
        return
    for one in images:
        meant = [slots[one.slot]] if one.slot is not None and one.slot < len(slots) else list(slots)
        said = {slot.address for slot in meant if slot.address is not None}
        if one.address is not None and said and one.address not in said:
            yield Check(
                "link address",
                Verdict.REFUSE,
                f"{_image(one, board)} is linked for {one.address:#x}; the slots of {board.name} are {given}.",
                "Link it for a slot's address, or correct the board's slots.",
                "wrong-address",
            )
            return
    covered = {one.slot for one in images}
    differ = len({slot.address for slot in slots}) > 1
    missing = [slot.name for index, slot in enumerate(slots) if index not in covered]
    if board.runs is Runs.WHERE_LINKED and differ and missing:
        which = "one image for all slots" if covered == {None} else f"no image for slot {', '.join(missing)}"
        yield Check(
            "link address",
            Verdict.REFUSE,
            f"{name}: code of {board.name} runs only where it is linked for, and there is {which} ({given}).",
            "Link an image for each slot and seal them together.",
            "slot-missing",
        )
    elif any(one.address is not None for one in images):
        places = ", ".join(f"{one.address:#x}" for one in images if one.address is not None)
        yield Check("link address", Verdict.PASS, f"{name}: linked for {places}.")
    elif board.runs is Runs.WHERE_LINKED and given:
        yield Check(
            "link address",
            Verdict.WARN,
            f"{name}: a raw binary does not say what address it is linked for.",
            "Seal the HEX, S-record or ELF file instead: then it is checked.",
        )


def _run_address(images: Sequence[Component], board: BoardFacts) -> Iterator[Check]:
    """A mapped board's code is linked for one address, whichever slot it stands in."""
    at = f"{board.run_address:#x}" if board.run_address is not None else "an address that its board file does not say"
    for one in images:
        if one.address is None:
            words = f"{_image(one, board)}: a raw binary does not say what address it is linked for; {board.name} runs "
            mend = "Seal the HEX, S-record or ELF file instead: then it is checked."
            yield Check("link address", Verdict.WARN, f"{words}it at {at}.", mend)
        elif one.address != board.run_address:
            yield Check(
                "link address",
                Verdict.REFUSE,
                f"{_image(one, board)} is linked for {one.address:#x}; {board.name} maps the slot it starts to {at}.",
                "Link it for that address, or correct run_address in the board's file.",
                "wrong-address",
            )
        else:
            yield Check("link address", Verdict.PASS, f"{_image(one, board)}: linked for {at}, mapped there.")


def _version(release: Manifest, earlier: Sequence[Earlier], allowed: Allowed) -> Check:
    if any(one.version == release.version for one in earlier):
        return Check(
            "version",
            Verdict.REFUSE,
            f"{release.name} was published before, with other bytes.",
            "A version names one set of bytes for ever: raise the version, build again and publish that.",
            "release-exists",
        )
    latest = max((one.version for one in earlier if _alike(release, one)), key=parse_version, default=None)
    if latest is None:
        return Check("version", Verdict.PASS, f"{release.version} is the first of {release.board}/{release.line}.")
    if parse_version(release.version) > parse_version(latest):
        return Check("version", Verdict.PASS, f"{release.version} follows {latest}.")
    if allowed.lower_version:
        return Check("version", Verdict.WARN, f"{release.version} does not follow {latest}; that was asked for.")
    return Check(
        "version",
        Verdict.REFUSE,
        f"{release.version} does not follow {latest}, the latest of the line.",
        "Raise the version. If a lower one is meant, say so with --lower-version.",
        "version-not-higher",
    )


def _floor(release: Manifest, earlier: Sequence[Earlier]) -> Check:
    highest = max((one.floor for one in earlier if not one.withdrawn), default=None)
    if highest is None:
        return Check("floor number", Verdict.PASS, f"{release.floor}, the first of the line.")
    if release.floor == highest:
        return Check("floor number", Verdict.PASS, f"{release.floor}, as the line has it.")
    if release.floor > highest:
        return Check(
            "floor number",
            Verdict.WARN,
            f"{release.floor}, raised from {highest}: a device that confirms it can never go back below.",
        )
    return Check(
        "floor number",
        Verdict.REFUSE,
        f"the floor number {release.floor} is below the line's, {highest}: devices on the latest would refuse it.",
        f"Build it with floor number {highest} or higher.",
        "floor-too-low",
    )


def _labels(release: Manifest, earlier: Sequence[Earlier], board: BoardFacts | None) -> Iterator[Check]:
    """A component's version names one set of bytes, and one set of bytes has one version."""
    bytes_of = {(c.name, c.slot, c.version): c.digest for one in earlier for c in one.components}
    version_of = {(c.name, c.digest): (c.version, one.version) for one in earlier for c in one.components}
    clean = True
    for one in release.components:
        known = version_of.get((one.name, one.digest))
        # What went back to earlier settings, or to a former certificate, has the bytes of then.
        if one.kind is Kind.FIRMWARE and known is not None and known[0] != one.version:
            clean = False
            yield Check(
                "bytes",
                Verdict.REFUSE,
                f"the very same bytes of {_image(one, board)} are published as {known[0]}, in release {known[1]}.",
                f"A new label on old bytes? Build again, or call {one.name} {known[0]}.",
                "same-bytes",
            )
        other = bytes_of.get((one.name, one.slot, one.version))
        if other is not None and other != one.digest:
            clean = False
            yield Check(
                "bytes",
                Verdict.REFUSE,
                f"{_image(one, board)} {one.version} is published with other bytes "
                f"({other[:12]}…, not {one.digest[:12]}…).",
                f"A version names one set of bytes for ever: raise the version of {one.name}.",
                "other-bytes",
            )
    if clean:
        yield Check("bytes", Verdict.PASS, "published under no other version.")


def _updater(release: Manifest, allowed: Allowed) -> Iterator[Check]:
    for one in release.images_of(APP)[:1]:
        if one.updater:
            yield Check("updater", Verdict.PASS, f"{APP} speaks update protocol {one.updater}.")
        elif allowed.cut_off_for_good:
            words = f"{APP} holds no updater: a device that runs it is cut off for good. That was asked for."
            yield Check("updater", Verdict.WARN, words)
        else:
            yield Check(
                "updater",
                Verdict.REFUSE,
                f"the image of component {APP} holds no updater (updater = 0): a device that runs it can never be "
                "updated again.",
                "Build it with the updater linked in. If that is meant, say so with --cut-off-for-good.",
                "no-updater",
            )


def _build_times(release: Manifest, now: datetime) -> Iterator[Check]:
    for one in _firmware(release):
        if not one.build_time or one.slot:
            continue
        try:
            built = datetime.fromtimestamp(one.build_time, UTC)
        except (OverflowError, ValueError, OSError):
            built = datetime.max.replace(tzinfo=UTC)
        if built > now + CLOCK_SKEW:
            yield Check(
                "build time",
                Verdict.WARN,
                f"{one.name} was built in the future: {built:%Y-%m-%d %H:%M} UTC.",
                "Set the clock of the build machine.",
            )
        else:
            yield Check("build time", Verdict.PASS, f"{one.name}: {built:%Y-%m-%d %H:%M} UTC.")


def _sizes(release: Manifest, earlier: Sequence[Earlier], board: BoardFacts | None) -> Iterator[Check]:
    order = sorted((one for one in earlier if not one.withdrawn), key=lambda one: parse_version(one.version))
    for one in _firmware(release):
        before = next(
            (c for e in reversed(order) for c in e.components if (c.name, c.slot) == (one.name, one.slot)), None
        )
        if before is None or not before.size:
            continue
        change = one.size / before.size - 1
        how = f"{change:+.1%} against" if change else "as large as"
        words = f"{_image(one, board)}: {how} {before.version} ({before.size} bytes)."
        if abs(change) > USUAL_CHANGE:
            what = "grew" if change > 0 else "shrank"
            mend = f"The image {what} unusually: is it the build you mean, with the right options?"
            yield Check("growth", Verdict.WARN, words, mend)
        else:
            yield Check("growth", Verdict.PASS, words)
