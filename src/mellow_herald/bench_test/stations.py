"""What is done to the device at each station, and what is seen."""

import asyncio
import time
from itertools import pairwise

from mellow_herald.bench_test.bench import Bench, altered, is_call
from mellow_herald.bench_test.desk import Attempt, nonce_of, problem, ranged, wanted_range
from mellow_herald.bench_test.http import Request, Response
from mellow_herald.bench_test.station import NotTriedError, WrongError
from mellow_herald.core.order import Order

RETRY_AFTER_S = 2
HUGE_RETRY_AFTER_S, HUGE_QUIET_S = 31_536_000, 8.0
LATE_S = 4.0
# A device may ask for a little more than is left, and once more for what it had not written down.
MOST_TWICE = 0.4


async def enrols_again(bench: Bench) -> None:
    """The answer to the first call gets lost."""
    said: list[str] = []

    async def lose(request: Request) -> Response | None:
        if is_call(request, "enrolments"):
            said.append(nonce_of(request))
            return Response(0, cut_at=0) if len(said) == 1 else None
        return None

    if bench.desk.enrolment is not None:
        raise NotTriedError("it had enrolled before")
    with bench.before(lose):
        await bench.until(lambda: bool(said), "it enrols")
        await bench.until(lambda: bench.desk.enrolment is not None, "it enrols again after its answer got lost")
        await bench.until(lambda: bench.desk.last_checkin is not None, "it checks in with the token that it was given")
    if len(set(said)) > 1:
        bench.wrong("it enrolled again with another nonce")
    checkin = bench.desk.last_checkin
    assert checkin is not None
    if "app" not in checkin.running:
        raise WrongError("running does not name app")
    if checkin.updater < 2:
        bench.wrong(f"its updater is {checkin.updater}; this is about protocol 2")


async def updates(bench: Bench) -> None:
    """A plain update."""
    since = len(bench.desk.calls)
    attempt = bench.desk.offer(bench.release())
    boots = bench.desk.last_checkin.boots if bench.desk.last_checkin else 0
    await bench.says(attempt, "staged")
    if not bench.since(since, "keys"):
        bench.wrong("it staged a release without asking for the key list")
    if not bench.since(since, "manifests"):
        bench.wrong("it staged a release without fetching the manifest")
    await bench.says(attempt, "installing", "confirmed")
    await bench.arrived(attempt)
    if "installing" not in attempt.states:
        bench.wrong("it did not report installing before it switched")
    checkins = [call.checkin for call in bench.since(since, "checkins") if call.checkin is not None]
    after = [one for one in checkins if one.boots > boots]
    if not after:
        bench.wrong("boots did not rise with the restart")
    elif not after[0].after_restart:
        bench.wrong("the first check-in after the restart did not say after_restart")
    if after and not after[0].trial:
        bench.wrong("the first check-in of the new firmware did not say trial")
    if any(one.trial and one.ready for one in checkins):
        bench.wrong("a check-in said trial and ready at once")
    await _nothing_left(bench, "the update succeeded")


async def repeats(bench: Bench) -> None:
    """Told to switch to what runs already."""
    release = bench.running_release()
    boots = bench.desk.last_checkin.boots if bench.desk.last_checkin else 0
    attempt = bench.desk.offer(release)
    attempt.states.append("staged")  # as if its reports had got lost
    await bench.says(attempt, "confirmed")
    bench.desk.attempt = None
    await bench.checks_in()
    if bench.desk.last_checkin and bench.desk.last_checkin.boots != boots:
        bench.wrong("it restarted for an image that it ran already")


async def goes_on(bench: Bench) -> None:
    """A transfer is cut in the middle."""
    served, cuts = [0], [0]

    async def cut(request: Request) -> Response | None:
        if not is_call(request, "images") or bench.desk.attempt is None:
            return None
        release = bench.desk.attempt.release
        response = ranged(request, release.content, release.digest)
        first, _ = wanted_range(request, len(release.content))
        if not cuts[0] and (first or 0) + len(response.body) > len(release.content) // 2:
            cuts[0] += 1
            response.cut_at = max(1, len(response.body) // 2)
        served[0] += len(response.body) if response.cut_at is None else response.cut_at
        return response

    with bench.before(cut):
        attempt = await bench.staged()
    size = len(attempt.release.content)
    bench.saw(f"{served[0]} bytes were served of an image of {size}, with one cut")
    if served[0] > size * (1 + MOST_TWICE):
        bench.wrong("it began anew after the cut; it is to go on with a range from where it broke off")
    attempt.clears = True
    await bench.arrived(attempt)


async def minds_the_tag(bench: Bench) -> None:
    """Another ETag in the middle of a transfer, with other bytes."""
    # The bytes of the image that the device has only from another one, as long as it is not given them again.
    false: set[int] = set()
    lied = [False]

    async def lie(request: Request) -> Response | None:
        if not is_call(request, "images") or bench.desk.attempt is None:
            return None
        release = bench.desk.attempt.release
        first, last = wanted_range(request, len(release.content))
        if lied[0] or not first:
            response = ranged(request, release.content, release.digest)
            if len(response.body) == len(release.content) and not lied[0]:
                response.cut_at = len(response.body) // 2  # so that it has to come again
            elif lied[0]:
                false.difference_update(range(0 if response.status == 200 else first or 0, last + 1))
            return response
        lied[0] = True
        false.update(range(first, last + 1))
        others = Request(request.method, request.path, {**request.headers, "if-range": '"another"'}, b"")
        bench.saw("the image's ETag is another one in the middle of the transfer")
        return ranged(others, bytes(len(release.content)), "another")

    with bench.before(lie):
        attempt = bench.desk.offer(bench.release(), clears=False)
        state = await bench.says(attempt, "staged", "failed")
    if not lied[0]:
        raise NotTriedError("it fetches an image in one piece only")
    if state == "failed":
        bench.saw(f"it gave up: {', '.join(attempt.reasons)}")
        return
    if false:
        raise WrongError(f"it staged an image of which {len(false)} bytes are those of another one")
    attempt.clears = True
    await bench.arrived(attempt)


async def refuses_manifest(bench: Bench) -> None:
    """One bit of the manifest is another."""
    since = len(bench.desk.calls)

    async def alter(request: Request) -> Response | None:
        if is_call(request, "manifests") and bench.desk.attempt is not None:
            body = bench.desk.attempt.release.envelope
            return altered(Response(200, {"Content-Type": "application/suit-envelope+cose"}, body), len(body) - 20)
        return None

    with bench.before(alter):
        attempt = bench.desk.offer(bench.release(), clears=False)
        state = await bench.says(attempt, "failed", "staged")
    if state == "staged":
        raise WrongError("it staged a release whose manifest was altered")
    _gave(bench, attempt, "signature-refused")
    if bench.since(since, "images"):
        bench.wrong("it fetched the image of a manifest that it could not trust")


async def refuses_image(bench: Bench) -> None:
    """One bit of the image is another."""

    async def alter(request: Request) -> Response | None:
        if is_call(request, "images") and bench.desk.attempt is not None:
            release = bench.desk.attempt.release
            spoiled = bytearray(release.content)
            spoiled[len(spoiled) // 3] ^= 1
            return ranged(request, bytes(spoiled), release.digest)
        return None

    with bench.before(alter):
        attempt = bench.desk.offer(bench.release(), clears=False)
        state = await bench.says(attempt, "failed", "staged")
    if state == "staged":
        raise WrongError("it staged an image of which one bit is another than the manifest says")
    _gave(bench, attempt, "digest-mismatch")
    bench.desk.attempt = None
    await _looked_after(bench, "the update failed")


async def minds_revocation(bench: Bench) -> None:
    """The key is revoked between staging and switching."""
    attempt = await bench.staged()
    bench.keys.revoke()
    since = len(bench.desk.calls)
    try:
        attempt.clears = True
        state = await bench.says(attempt, "failed", "installing")
    finally:
        bench.keys.renew()
    if not bench.since(since, "keys"):
        bench.wrong("it did not ask for the key list before it switched")
    if state == "installing":
        raise WrongError("it switched to an image whose signer was revoked after it had been staged")
    _gave(bench, attempt, "signature-refused")
    bench.desk.attempt = None
    await bench.checks_in(words="it goes on with the old firmware")


async def minds_the_clearance(bench: Bench) -> None:
    """A clearance that has run out by the time it arrives."""
    attempt = await bench.staged()
    attempt.clearance_s, attempt.clears = 0, True
    await bench.until(lambda: attempt.cleared_at is not None, "it asks for clearance, and gets one of 0 s")
    first = attempt.clearance or 0
    await bench.checks_in(words="it checks in again")
    if "installing" in attempt.states:
        raise WrongError("it switched by a clearance that had run out")
    await bench.until(lambda: (attempt.clearance or 0) > first, "it asks once more, with ready")
    attempt.clearance_s = 600
    await bench.arrived(attempt)


async def waits_for_late_answers(bench: Bench) -> None:
    """The answer with leave to switch comes late."""
    attempt = await bench.staged()
    late = [0]

    async def delay(request: Request) -> Response | None:
        if is_call(request, "checkins") and attempt.clears and not late[0]:
            late[0] += 1
            await asyncio.sleep(LATE_S)
        return None

    with bench.before(delay):
        attempt.clears = True
        await bench.arrived(attempt)
    if attempt.states.count("installing") > 1:
        bench.wrong(f"it reported installing {attempt.states.count('installing')} times")


async def stops_before_clearance(bench: Bench) -> None:
    """Halted while the image is staged."""
    attempt = await bench.staged()
    before = bench.desk.runs
    await bench.called_off(attempt)
    if "installing" in attempt.states or bench.desk.runs != before:
        raise WrongError("it switched although it never had a clearance")
    if bench.desk.stands_by == attempt.release.digest:
        bench.wrong("standby still has what it was told to abandon")
    await _looked_after(bench, "it was told to abandon")


async def stops_fetching(bench: Bench) -> None:
    """Halted in the middle of a transfer: what it fetches is not given any more (403)."""
    stopped = [0]

    async def stop(request: Request) -> Response | None:
        attempt = bench.desk.attempt
        if not is_call(request, "images") or attempt is None:
            return None
        first, _ = wanted_range(request, len(attempt.release.content))
        if first or stopped[0]:
            stopped[0] += 1
            bench.desk.tell(attempt, Order.ABANDON)
            return None
        response = ranged(request, attempt.release.content, attempt.release.digest)
        whole = len(response.body) == len(attempt.release.content)
        response.cut_at = len(response.body) // 2 if whole else None
        return response

    with bench.before(stop):
        attempt = bench.desk.offer(bench.release(), clears=False)
        await bench.until(lambda: stopped[0] > 0, "it fetches on, and is answered 403")
        await bench.checks_in(words="it checks in after it")
    if "staged" in attempt.states:
        raise WrongError("it says that it staged an image that it was not given")
    await bench.called_off(attempt)
    await _looked_after(bench, "it was called off in the middle of the transfer")


async def tells_the_truth(bench: Bench) -> None:
    """Halted after the clearance: on the wire. Whatever it does, what it says must be so."""
    attempt = await bench.staged(clears=True)
    await bench.says(attempt, "installing")
    bench.desk.tell(attempt, None)
    bench.saw("halted after the clearance was given")
    await bench.says(attempt, "confirmed", "reverted", "failed")
    await bench.checks_in(
        lambda call: call.checkin is not None and not call.checkin.trial, "it checks in, not on trial"
    )
    runs = bench.desk.runs == attempt.release.digest
    if runs != (attempt.states[-1] == "confirmed"):
        bench.wrong(f"it reported {attempt.states[-1]}, and {'runs' if runs else 'does not run'} the new image")


async def survives_power_cuts(bench: Bench) -> None:
    """Power is cut in the middle of a transfer."""
    hit: list[int] = []

    async def cut(request: Request) -> Response | None:
        attempt = bench.desk.attempt
        if is_call(request, "images") and attempt is not None and not hit:
            first, last = wanted_range(request, len(attempt.release.content))
            if first or last + 1 >= len(attempt.release.content):
                hit.append(len(bench.desk.calls))
                return Response(0, cut_at=0)
        return None

    boots = bench.desk.last_checkin.boots if bench.desk.last_checkin else 0
    with bench.before(cut):
        attempt = bench.desk.offer(bench.release())
        await bench.until(lambda: bool(hit), "it fetches")
        await bench.hand.do("power-cut", "Cut the device's power, give it back, and press Enter.")
    back = lambda: bool(bench.desk.last_checkin and bench.desk.last_checkin.boots > boots)  # noqa: E731
    await bench.until(back, "it checks in after the power cut, with higher boots")
    await bench.arrived(attempt)


async def goes_back(bench: Bench) -> None:
    """New firmware fails its self-test."""
    release = bench.failing_release()
    before = bench.desk.runs
    attempt = bench.desk.offer(release)
    state = await bench.says(attempt, "reverted", "confirmed")
    if state == "confirmed":
        raise WrongError("it confirmed firmware that fails its self-test")
    await bench.until(lambda: bench.desk.runs == before, "it runs again what it ran before")
    bench.saw(f"its reason: {', '.join(attempt.reasons)}")


async def stays_away(bench: Bench) -> None:
    """429 and 503 with Retry-After."""
    await _comes_again_after(bench, 429)
    await _comes_again_after(bench, 503)


async def _comes_again_after(bench: Bench, status: int) -> None:
    refused: list[float] = []

    async def refuse(request: Request) -> Response | None:
        if len(refused) >= 2:
            return None
        refused.append(time.monotonic())
        return problem(status, "busy", "Come again.", Retry_After=str(RETRY_AFTER_S))

    since = len(bench.desk.calls)
    with bench.before(refuse):
        await bench.until(lambda: len(refused) > 1, f"it is answered {status}, and comes again")
        await bench.until(lambda: len(bench.desk.calls) > since + 2, "and again")
    moments = [call.at for call in bench.desk.calls[since : since + 3]]
    soonest = min(later - earlier for earlier, later in pairwise(moments))
    if soonest < RETRY_AFTER_S:
        bench.wrong(f"after {status} with Retry-After: {RETRY_AFTER_S} it came again after {soonest:.1f} s")


async def lets_calls_be_held(bench: Bench) -> None:
    """Check-ins that are held open."""
    call = await bench.checks_in()
    if "wait=" not in call.request.headers.get("prefer", ""):
        raise NotTriedError("it does not ask for its calls to be held (Prefer: wait)")
    attempt = bench.desk.offer(bench.release())
    await bench.says(attempt, "downloading", "staged")
    await bench.arrived(attempt)


async def stays_away_long(bench: Bench) -> None:
    """A huge Retry-After."""
    refused: list[float] = []

    async def refuse(request: Request) -> Response | None:
        refused.append(time.monotonic())
        return problem(503, "busy", "Come again next year.", Retry_After=str(HUGE_RETRY_AFTER_S))

    with bench.before(refuse):
        await bench.until(lambda: bool(refused), f"it is answered 503 with Retry-After: {HUGE_RETRY_AFTER_S}")
        await asyncio.sleep(HUGE_QUIET_S)
    # What it did beside may be answered so once, too.
    if len(refused) > 2:
        bench.wrong(f"it called {len(refused)} times within {HUGE_QUIET_S:.0f} s of it")


def _gave(bench: Bench, attempt: Attempt, reason: str) -> None:
    """Whether it gave the reason that belongs there."""
    if attempt.reasons != [reason]:
        bench.wrong(f"it gave {', '.join(attempt.reasons)} as the reason, not {reason}")


async def _looked_after(bench: Bench, when: str) -> None:
    """What a person, or the hook, sees after an update that did not come about."""
    await _nothing_left(bench, when)
    try:
        lamp = await bench.hand.do("lamp", f"After {when}: what does its lamp say? [update stopped]")
        if lamp not in ("", "update stopped", "-"):
            bench.wrong(f"its lamp says {lamp!r} after {when}; it is to say that the update stopped")
    except NotTriedError as not_tried:
        bench.saw(f"not looked at: {not_tried}")


async def _nothing_left(bench: Bench, when: str) -> None:
    """Whether a staging file is left."""
    try:
        staging = await bench.hand.do("staging", f"After {when}: is a staging file left? [none]")
        if staging not in ("", "none"):
            bench.wrong(f"a staging file is left after {when}: {staging}")
    except NotTriedError as not_tried:
        bench.saw(f"not looked at: {not_tried}")
