"""Readings through the service: listening, what devices are told, what comes in, and what is answered of it."""

import gzip
import json
import sys
import time
from datetime import UTC, datetime, timedelta
from itertools import takewhile
from types import SimpleNamespace
from typing import Any

import cbor2
import httpx
import pytest
from sqlalchemy import text
from sqlalchemy.exc import DBAPIError

from mellow_herald.client import ProblemError
from mellow_herald.service.readings import listening, merging
from mellow_herald.wire.board import BoardIn
from mellow_herald.wire.person import Role
from mellow_herald.wire.radio import RadioEntry
from mellow_herald.wire.readings import ListeningIn
from mellow_herald.wire.recordings import RecordingIn
from tests.harness.device import PuppetDevice
from tests.harness.firmware import BOARD, DOMAIN, LINE
from tests.harness.patience import PATIENCE_S, until
from tests.harness.service import RunningService
from tests.harness.team import add_person

SIGNALS = [
    {"name": "temperature", "unit": "Cel", "usual": [-10, 45]},
    {"name": "weight", "unit": "kg", "precise": True},
    {"name": "activity", "kind": "state"},
]


def board(**more: Any) -> BoardIn:
    slots = [{"name": "a", "size": 65536}, {"name": "b", "size": 65536}]
    known = {"name": BOARD, "vendor_domain": DOMAIN, "lines": [LINE], "hw_revs": [1, 2, 3], "slots": slots}
    return BoardIn.model_validate({**known, "check_in": "1m", "signals": SIGNALS, **more})


@pytest.fixture
def measured(service: RunningService) -> RunningService:
    service.herald.boards.add(board())
    return service


@pytest.fixture
def device(measured: RunningService) -> PuppetDevice:
    made = PuppetDevice(measured.url, "TA-1")
    made.enrol(measured.code(), labels={"site": "fernhollow"}).raise_for_status()
    made.checkin()
    return made


def now_of(service: RunningService) -> float:
    return float(service.context.clock.now().timestamp())


def block(at: float, after_ms: list[int], **values: list[Any]) -> dict[str, Any]:
    return {"at": at, "after_ms": after_ms, "values": values}


def send(device: PuppetDevice, *blocks: dict[str, Any], **more: Any) -> httpx.Response:
    return device.post("/readings", json.dumps({"blocks": list(blocks), **more}).encode())


def asked(**more: Any) -> ListeningIn:
    given = {"where": "site = fernhollow", "signals": ["temperature"], "every": "10s", "lasts": "2h", **more}
    return ListeningIn.model_validate(given)


def merged(service: RunningService) -> None:
    """What is a minute old is put together."""
    service.pass_time(timedelta(minutes=2))
    service.call(merging.merge_once(service.context.through(service.context.pools.work)))


def test_a_board_tells_its_signals_and_reads_them_back(measured: RunningService) -> None:
    (shown,) = measured.herald.boards.list()
    assert [one.name for one in shown.signals] == ["activity", "temperature", "weight"]
    assert shown.listen_at_most == 5_000_000
    (again,) = [one for one in measured.herald.signals.list() if one.name == "temperature"]
    assert (again.unit, again.usual, again.declared, again.sent) == ("Cel", [-10, 45], True, 0)
    with pytest.raises(ProblemError, match="name of its own"):
        measured.herald.boards.add(board(signals=[SIGNALS[0], SIGNALS[0]]))


def test_a_device_learns_what_it_is_asked_for_and_is_told_once(measured: RunningService, device: PuppetDevice) -> None:
    for _ in range(3):
        assert device.checkin().status_code == 204
    begun = measured.herald.signals.listen(asked(signals=["temperature", "weight"]))
    assert (begun.devices, begun.state, begun.period_s) == (1, "going-on", 10.0)
    told = until(lambda: device.checkin().status_code == 200 and device.order)["listen"]
    assert [(one["name"], one["period_s"]) for one in told["signals"]] == [("temperature", 10.0), ("weight", 10.0)]
    assert all(7000 < one["seconds"] <= 7200 for one in told["signals"])
    assert device.checkin().json()["listen"]["number"] == told["number"], "it did not say that it was told"
    assert device.checkin(listening=told["number"]).status_code == 204
    ended = measured.herald.signals.stop(begun.id)
    assert (ended.state, ended.devices) == ("ended", 0)
    last = until(lambda: device.checkin(listening=told["number"]).status_code == 200 and device.order)["listen"]
    assert last == {"number": 0, "signals": []}
    assert device.checkin().status_code == 204
    with pytest.raises(ProblemError, match="over already"):
        measured.herald.signals.stop(begun.id)


def test_whom_it_asks_is_read_again_and_it_ends_by_itself(measured: RunningService, device: PuppetDevice) -> None:
    begun = measured.herald.signals.listen(asked(lasts="10m"))
    other = PuppetDevice(measured.url, "TA-2")
    other.enrol(measured.code(), labels={"site": "fernhollow"}).raise_for_status()
    work = measured.context.through(measured.context.pools.work)
    measured.call(listening.read_again(work))
    assert measured.herald.signals.listening(begun.id).devices == 2
    assert until(lambda: other.checkin().status_code == 200 and other.order)["listen"]["number"]
    measured.pass_time(timedelta(minutes=11))
    measured.call(listening.read_again(work))
    assert measured.herald.signals.listenings() == []
    (over,) = measured.herald.signals.listenings(over=True)
    assert (over.state, over.devices) == ("over", 0)
    until(lambda: other.checkin(listening=99).status_code == 200 and other.order["listen"]["number"] == 0)


def test_what_costs_more_than_the_board_allows_is_refused_with_the_numbers(
    measured: RunningService, device: PuppetDevice
) -> None:
    measured.herald.boards.add(board(listen_at_most=300_000))
    foreseen = measured.herald.signals.preview(asked(lasts="1d", every="1m"))
    (cost,) = foreseen.costs
    assert (cost.devices, cost.bytes_a_day, cost.at_most) == (1, 1440 * 7 + 1440 * 400, 300_000)
    assert "586,080 bytes a day" in foreseen.refused[0] and "allows 300,000" in foreseen.refused[0]
    with pytest.raises(ProblemError) as refused:
        measured.herald.signals.listen(asked(every="1m"))
    assert refused.value.problem.type.endswith("over-budget")
    measured.herald.signals.listen(asked(every="5m"))
    both = measured.herald.signals.preview(asked(every="3m", signals=["weight"])).costs[0]
    assert both.with_others > both.bytes_a_day, "what it is asked for already counts"
    assert measured.herald.signals.preview(asked(signals=["nonsense"], every="5m")).refused
    with pytest.raises(ProblemError, match="is over"):
        measured.herald.signals.listen(asked(until=datetime(2020, 1, 1, tzinfo=UTC), lasts=None))


@pytest.mark.parametrize("how", ["json", "gzip", "cbor"])
def test_readings_come_back_as_they_were_sent(measured: RunningService, device: PuppetDevice, how: str) -> None:
    at = now_of(measured) - 30
    said = {"blocks": [block(at, [0, 10_000, 20_000], temperature=[20.5, None, 22.25], activity=[None, "up", None])]}
    headers = {**device.headers, "content-type": "application/json"}
    body = json.dumps(said).encode()
    if how == "gzip":
        body, headers = gzip.compress(body), {**headers, "content-encoding": "gzip"}
    if how == "cbor":
        body, headers = cbor2.dumps(said), {**headers, "content-type": "application/cbor"}
    answer = device._http.post("/readings", content=body, headers=headers)
    assert answer.json() == {"taken": 3, "refused_count": 0, "refused": []}
    got = measured.herald.readings.series("temperature", where="serial = TA-1", points=5000)
    (one,) = got.series
    assert [(round(point.at.timestamp()), point.mean) for point in one.points] == [
        (int(at), 20.5),
        (int(at + 20), 22.25),
    ]
    assert (got.unit, got.level, got.devices) == ("Cel", "each", 1)
    (word,) = measured.herald.readings.series("activity").series[0].points
    assert word.text == "up"
    latest = {one.signal: one for one in measured.herald.readings.latest("serial = TA-1")}
    assert (latest["temperature"].value, latest["activity"].text) == (22.25, "up")
    assert 5 < latest["temperature"].age_s < 60


def test_what_is_put_together_answers_the_same_at_every_level(measured: RunningService, device: PuppetDevice) -> None:
    at = now_of(measured) // 3600 * 3600 - 7200
    values = [float(number % 7) for number in range(720)]
    assert (
        send(device, block(at, [number * 10_000 for number in range(720)], temperature=values)).json()["taken"] == 720
    )
    stretch = {"begin": datetime.fromtimestamp(at, UTC), "end": datetime.fromtimestamp(at + 7200, UTC)}

    def course(points: int) -> tuple[str, int, float, float, float]:
        got = measured.herald.readings.series("temperature", **stretch, points=points)
        (one,) = got.series
        counts = sum(point.count for point in one.points)
        mean = sum((point.mean or 0) * point.count for point in one.points) / counts
        lows, highs = [point.least for point in one.points], [point.most for point in one.points]
        return got.level, counts, round(mean, 3), min(map(float, lows)), max(map(float, highs))  # type: ignore[arg-type]

    expected = (720, round(sum(values) / 720, 3), 0.0, 6.0)
    before = [course(points) for points in (720, 120)]
    merged(measured)
    after = [course(points) for points in (720, 120, 2)]
    assert [one[1:] for one in [*before, *after]] == [expected] * 5
    assert [one[0] for one in after] == ["each", "minute", "hour"]
    # A late value joins its minute and its hour; one that is there already changes nothing.
    send(device, block(at, [5_000, 10_000], temperature=[100.0, -100.0]))
    merged(measured)
    late = (721, round((sum(values) + 100) / 721, 3), 0.0, 100.0)
    assert [course(points)[1:] for points in (5000, 120, 2)] == [late] * 3


def test_readings_are_put_together_by_ring_version_and_revision(measured: RunningService, device: PuppetDevice) -> None:
    other = PuppetDevice(measured.url, "TA-2", hw_rev=2)
    other.enrol(measured.code()).raise_for_status()
    other.checkin()
    at = now_of(measured) - 20
    send(device, block(at, [0], temperature=[10.0]))
    send(other, block(at, [0], temperature=[20.0]))
    by = {one.key: one.points[0].mean for one in measured.herald.readings.series("temperature", by="hw_rev").series}
    assert by == {"1": 10.0, "2": 20.0}
    (together,) = measured.herald.readings.series("temperature", by="version").series
    assert (together.points[0].count, together.points[0].mean) == (2, 15.0)
    with measured.http(measured.token) as http:
        text = http.get("/api/v1/readings", params={"signal": "temperature", "format": "csv"}).text
    assert text.splitlines()[0] == "series,at,count,least (Cel),most,mean,last" and text.count("\r\n") == 3


def test_bad_input_is_refused_value_by_value_or_whole_and_nothing_else_is_lost(
    measured: RunningService, device: PuppetDevice
) -> None:
    at = now_of(measured)
    told = send(device, block(at, [0, 400_000, 1000], temperature=[1.0, 2.0, "warm"]), block(at, [5], temperature=[{}]))
    assert told.json()["taken"] == 1
    assert [(one["index"], one["kind"]) for one in told.json()["refused"]] == [
        (1, "ahead"),
        (2, "wrong-kind"),
        (3, "wrong-kind"),
    ]
    many = {f"name{number:02}": [1.0] for number in range(60)}
    told = send(device, block(at, [0], **many))
    assert (told.json()["taken"], told.json()["refused_count"]) == (50, 10)
    assert {one["kind"] for one in told.json()["refused"]} == {"too-many-names"}
    told = send(device, block(at, [10], name00=[1.0], another=[1.0]))
    assert (told.json()["taken"], told.json()["refused"][0]["signal"]) == (1, "another")
    undeclared = [one for one in measured.herald.signals.list() if not one.declared]
    assert len(undeclared) >= 50, "listed, and not lost"
    for body, status in [
        (b"{", 400),
        (json.dumps({"blocks": [block(at, [0, 1], temperature=[1.0])]}).encode(), 422),
        (json.dumps({"blocks": []}).encode(), 422),
        (b" " * (1024 * 1024 + 1), 413),
    ]:
        assert device.post("/readings", body).status_code == status
    bomb = gzip.compress(b" " * 50_000_000)
    packed = {**device.headers, "content-type": "application/json", "content-encoding": "gzip"}
    assert device._http.post("/readings", content=bomb, headers=packed).status_code == 413
    assert device._http.post("/readings", content=b"no", headers=packed).status_code == 400
    assert device._http.post("/readings", content=bomb[:100], headers=packed).status_code == 400
    odd = {**packed, "content-encoding": "br"}
    assert device._http.post("/readings", content=b"{}", headers=odd).status_code == 415
    device.token = "nobody"
    assert send(device, block(at, [0], temperature=[1.0])).status_code == 401
    with pytest.raises(ProblemError) as nothing:
        measured.herald.readings.series("never-heard-of")
    assert nothing.value.problem.status == 404


def test_a_clock_that_is_wrong_is_mended_and_told_twice_is_told_once(
    measured: RunningService, device: PuppetDevice
) -> None:
    wrong = now_of(measured) - 86_400 * 300
    said = block(wrong - 10, [0, 5000], temperature=[1.0, 2.0])
    for late in (0.0, 1.5):
        told = send(device, said, sent_at=wrong, cost={"processor": 0.01, "dropped": 3})
        assert told.json()["taken"] == 2, late
        time.sleep(0.3)
    (one,) = measured.herald.readings.series("temperature", points=5000).series
    assert [point.mean for point in one.points] == [1.0, 2.0]


def test_what_a_board_comes_to_declare_counts_as_declared_from_then_on(
    measured: RunningService, device: PuppetDevice
) -> None:
    at = now_of(measured)
    told = send(device, block(at, [0], **{f"name{number:02}": [1.0] for number in range(50)})).json()
    assert told["refused_count"] == 0
    assert send(device, block(at, [0], late=[1.0])).json()["refused"][0]["kind"] == "too-many-names"
    measured.herald.boards.add(board(signals=[*SIGNALS, {"name": "name00"}]))
    until(lambda: send(device, block(at, [0], late=[1.0])).json()["taken"] == 1)


def test_when_more_comes_than_can_be_written_it_is_said_and_check_ins_go_on(
    measured: RunningService, device: PuppetDevice, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("mellow_herald.service.readings.taking.MOST_WAITING", 0)
    refused = send(device, block(now_of(measured), [0], temperature=[1.0]))
    assert (refused.status_code, refused.headers["retry-after"]) == (429, "5")
    assert device.checkin().status_code == 204


def test_old_days_go_whole_and_nobody_waits_for_that(measured: RunningService, device: PuppetDevice) -> None:
    at = now_of(measured)
    send(device, block(at - 3 * 86_400, [0], temperature=[1.0]), block(at - 60, [0], temperature=[2.0]))
    merged(measured)
    work = measured.context.through(measured.context.pools.work)
    work.settings.readings_days = 2
    gone = measured.call(merging.sweep(work))
    assert len(gone) == 1 and gone[0].startswith("reading_chunk_")  # type: ignore[arg-type,index]
    stretch = {"begin": datetime.fromtimestamp(at - 4 * 86_400, UTC)}
    fine = measured.herald.readings.series("temperature", **stretch, points=5000)
    assert sum(point.count for point in fine.series[0].points) == 2, "what was rolled up of it is still there"


@pytest.mark.parametrize("how_far", ["half detached", "detached"])
def test_what_broke_off_as_old_days_went_is_done_to_its_end(
    measured: RunningService, device: PuppetDevice, how_far: str
) -> None:
    at = now_of(measured)
    send(device, block(at - 5 * 86_400, [0], temperature=[1.0]), block(at - 60, [0], temperature=[2.0]))
    merged(measured)
    work = measured.context.through(measured.context.pools.work)

    async def break_off() -> str:
        async with work.engine.connect() as reader, work.engine.connect() as other:
            alone = await other.execution_options(isolation_level="AUTOCOMMIT")
            listed = "SELECT min(relname) FROM pg_class WHERE relname ~ '^reading_chunk_[0-9]{8}$'"
            name = str(await alone.scalar(text(listed)))
            detach = text(f"ALTER TABLE reading_chunk DETACH PARTITION {name} CONCURRENTLY")
            if how_far == "detached":
                await alone.execute(detach)
                return name
            await reader.execute(text("SELECT count(*) FROM reading_chunk"))
            await alone.execute(text("SET statement_timeout = '1s'"))
            with pytest.raises(DBAPIError):
                await alone.execute(detach)
            await alone.execute(text("RESET statement_timeout"))
            return name

    name = measured.call(break_off())
    work.settings.readings_days = 2
    assert measured.call(merging.sweep(work)) == [name]
    assert measured.call(merging.sweep(work)) == []
    assert send(device, block(at - 30, [0], temperature=[3.0])).json()["taken"] == 1


def test_a_number_too_large_for_seven_digits_holds_nothing_up(measured: RunningService, device: PuppetDevice) -> None:
    now = now_of(measured)
    large = block(now - 600, [0, 1000], temperature=[1e39, 21.5])
    assert send(device, large, block(now - 300, [0], temperature=[22.5])).json()["taken"] == 3
    merged(measured)
    (told,) = measured.herald.readings.series("temperature", where="serial = TA-1").series
    assert told.points[0].most == 1e39
    assert told.points[-1].last == 22.5


def test_a_series_comes_in_columns_and_as_a_frame_where_pandas_is(
    measured: RunningService, device: PuppetDevice, monkeypatch: pytest.MonkeyPatch
) -> None:
    now = now_of(measured)
    send(device, block(now - 300, [0, 30_000, 60_000], temperature=[20.5, None, 21.5])).raise_for_status()
    told = measured.herald.readings.series("temperature", where="serial = TA-1")
    columns = told.columns()
    assert columns["series"] == ["TA-1", "TA-1"] and columns["last"] == [20.5, 21.5] and columns["text"] == [None] * 2
    monkeypatch.setitem(sys.modules, "pandas", None)
    with pytest.raises(ImportError, match="pip install pandas"):
        told.frame()
    monkeypatch.setitem(sys.modules, "pandas", SimpleNamespace(DataFrame=dict))
    assert told.frame() == columns


def test_numbers_beyond_all_bounds_are_refused_one_by_one(measured: RunningService, device: PuppetDevice) -> None:
    now = now_of(measured)
    largest = 1.7976931348623157e308
    values = [21.0, largest, 10**400, -largest, 22.0]
    answer = send(device, block(now - 600, [0, 1000, 2000, 3000, 4000], temperature=values)).json()
    assert answer["taken"] == 2
    assert [(one["index"], one["kind"]) for one in answer["refused"]] == [(n, "not-a-number") for n in (1, 2, 3)]
    merged(measured)
    (told,) = measured.herald.readings.series("temperature", where="serial = TA-1").series
    assert told.points[-1].last == 22.0


def test_who_has_no_words_for_readings_is_not_asked_and_it_is_said(
    measured: RunningService, device: PuppetDevice
) -> None:
    other = PuppetDevice(measured.url, "TA-2")
    other.enrol(measured.code(), labels={"site": "fernhollow"}).raise_for_status()
    measured.herald.radio.record([RadioEntry(serial="TA-2", eui="70b3d57ed0000102")])
    foreseen = measured.herald.signals.preview(asked())
    assert (foreseen.devices, foreseen.not_asked) == (1, 1)
    assert measured.herald.signals.listen(asked()).devices == 1
    with pytest.raises(ProblemError, match="no words for readings"):
        measured.herald.recordings.ask("TA-2", RecordingIn(last="1h"))


def test_somebody_narrowed_listens_to_their_devices_and_sees_no_others(
    measured: RunningService, device: PuppetDevice
) -> None:
    other = PuppetDevice(measured.url, "TA-2")
    other.enrol(measured.code(), labels={"site": "quillmere"}).raise_for_status()
    other.checkin()
    for one in (device, other):
        assert send(one, block(now_of(measured) - 30, [0], temperature=[20.0])).json()["taken"] == 1
    everybody = measured.herald.signals.listen(asked(where='serial ~ "*"', signals=["weight"]))
    assert everybody.devices == 2
    with add_person(measured, "sorrel", Role.OPERATOR, only="site = quillmere") as http:
        seen = {one["name"]: (one["asked"], one["sent"]) for one in http.get("/api/v1/signals").json()}
        assert (seen["temperature"], seen["weight"]) == ((0, 1), (1, 0))
        newest = http.get("/api/v1/readings/latest", params={"where": 'serial ~ "*"'}).json()
        assert [one["serial"] for one in newest] == ["TA-2"]
        body = asked(where='serial ~ "*"').model_dump(mode="json", exclude_none=True)
        assert http.post("/api/v1/previews/listening", json=body).json()["devices"] == 1
        begun = http.post("/api/v1/listenings", json=body).json()
        assert (begun["devices"], begun["where"]) == (1, '(serial ~ "*") and (site = quillmere)')
        assert [one["id"] for one in http.get("/api/v1/listenings").json()] == [begun["id"]]
        assert http.get(f"/api/v1/listenings/{everybody.id}").status_code == 404
        assert http.post(f"/api/v1/listenings/{everybody.id}/end", json={}).status_code == 404
        assert http.post(f"/api/v1/listenings/{begun['id']}/end", json={}).status_code == 200
        # Parentheses end nothing that is put around them.
        wide = {**body, "where": 'serial ~ "*") or (serial ~ "*"'}
        assert http.post("/api/v1/listenings", json=wide).status_code == 422
    assert measured.herald.signals.listening(everybody.id).state == "going-on"


def test_who_follows_hears_that_readings_have_come_and_nobody_else(
    measured: RunningService, device: PuppetDevice
) -> None:
    params = {"readings": "true"}
    with (
        measured.http(measured.token) as http,
        http.stream("GET", "/api/v1/events", params=params, timeout=PATIENCE_S) as hears,
        http.stream("GET", "/api/v1/events", timeout=PATIENCE_S) as other,
    ):
        lines, others = hears.iter_lines(), other.iter_lines()
        next(lines), next(others)
        assert send(device, block(now_of(measured) - 30, [0], temperature=[20.0])).json()["taken"] == 1
        heard = list(takewhile(lambda line: line != "data: {}", lines))
        # What else happens meanwhile has its number; this has none.
        assert list(takewhile(bool, reversed(heard))) == ["event: readings"]
        measured.herald.signals.listen(asked())
        told = list(takewhile(lambda line: line != "event: listening", others))
        assert any(line.startswith("id:") for line in told) and "event: readings" not in told
