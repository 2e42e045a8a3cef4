"""Chart pages: kept, shared, changed by who made them; and how series look to whom."""

from typing import Any

import pytest

from mellow_herald.client import Herald, ProblemError
from mellow_herald.service.readings import charts
from mellow_herald.store.readings import charts as store
from mellow_herald.wire.charts import ChartPageChange, ChartPageDocument, ChartPageIn, SeriesStyle
from mellow_herald.wire.person import Role
from tests.harness.service import RunningService
from tests.harness.team import add_person

ROWS = [{"signals": ["weight", "temperature"], "height": 300}, {"signals": ["weight"], "against": "temperature"}]


def page(**more: Any) -> ChartPageIn:
    given = {"name": "Weighing at night", "where": "site = fernhollow", "last": "12h", "rows": ROWS, **more}
    return ChartPageIn.model_validate(given)


def changed(edition: int, **more: Any) -> ChartPageChange:
    return ChartPageChange(**page(**more).model_dump(), edition=edition)


@pytest.fixture
def rowan(service: RunningService) -> Herald:
    """A colleague who may look and no more."""
    with add_person(service, "rowan", Role.VIEWER) as http:
        token = http.headers["authorization"].removeprefix("Bearer ")
    return Herald(service.url, token=token)


def words(service: RunningService) -> list[str]:
    return [one.what for one in reversed(service.herald.journal.list().items) if one.what.startswith("chart page")]


def test_a_page_is_kept_for_oneself_until_it_is_shared(service: RunningService, rowan: Herald) -> None:
    mine = service.herald.charts
    kept = mine.keep(page())
    assert (kept.edition, kept.mine, kept.shared, kept.made_by) == (1, True, False, "admin")
    assert kept.document() == ChartPageDocument(**page().model_dump(exclude={"shared"})) and mine.show(kept.id) == kept
    assert rowan.charts.list() == [] and words(service) == []
    with pytest.raises(ProblemError, match="no chart page"):
        rowan.charts.show(kept.id)
    shared = mine.change(kept.id, changed(1, shared=True))
    assert (shared.edition, shared.changed_at > kept.changed_at) == (2, True)
    (seen,) = rowan.charts.list()
    assert (seen.mine, seen.made_by, seen.rows) == (False, "admin", shared.rows)
    with pytest.raises(ProblemError, match="admin's. Keep a copy"):
        rowan.charts.change(kept.id, changed(2, name="Taken over"))
    with pytest.raises(ProblemError, match="admin's. Keep a copy"):
        rowan.charts.drop(kept.id)
    # A copy may have the same name: it is somebody else's.
    copy = rowan.charts.keep(page(shared=True))
    assert [one.made_by for one in mine.list()] == ["admin", "rowan"]
    mine.drop(copy.id)
    assert rowan.charts.list() == [mine.show(kept.id).model_copy(update={"mine": False})]
    mine.change(kept.id, changed(2))
    assert rowan.charts.list() == []
    assert words(service) == [
        "chart page shared",
        "chart page shared",
        "chart page dropped",
        "chart page shared no more",
    ]


def test_of_two_who_change_a_page_the_second_is_told(service: RunningService, monkeypatch: pytest.MonkeyPatch) -> None:
    mine = service.herald.charts
    kept, other = mine.keep(page()), mine.keep(page(name="Another"))
    mine.change(kept.id, changed(1, name="Renamed"))
    with pytest.raises(ProblemError, match="was changed at"):
        mine.change(kept.id, changed(1, name="Renamed otherwise"))
    with pytest.raises(ProblemError, match="'Renamed' already"):
        mine.change(other.id, changed(1, name="Renamed"))
    with pytest.raises(ProblemError, match="'Another' already"):
        mine.keep(page(name="Another"))
    assert [one.name for one in mine.list()] == ["Another", "Renamed"]

    # At the very same moment neither sees that the other takes the name.
    async def free(*_: object, **__: object) -> bool:
        return False

    with monkeypatch.context() as patched:
        patched.setattr(store, "is_taken", free)
        with pytest.raises(ProblemError, match="'Renamed' already"):
            mine.change(other.id, changed(1, name="Renamed"))
    monkeypatch.setattr(charts, "MOST_PAGES", 2)
    with pytest.raises(ProblemError, match="keeps 2 chart pages"):
        mine.keep(page(name="One more"))
    mine.drop(other.id)
    mine.keep(page(name="One more"))
    with pytest.raises(ProblemError, match="no chart page"):
        mine.drop(other.id)


@pytest.mark.parametrize(
    ("wrong", "said"),
    [
        ({"rows": []}, "at least 1"),
        ({"rows": [{"signals": []}]}, "at least 1"),
        ({"rows": [{"signals": ["weight", "weight"]}]}, "named twice"),
        ({"rows": [{"signals": ["weight"], "against": "weight"}]}, "against itself"),
        ({"rows": [{"signals": ["weight"], "height": 5}]}, "greater than or equal to 80"),
        ({"by": "ring"}, "of which rollout"),
        ({"where": "site ="}, "where"),
        ({"last": "soon"}, "last"),
        ({"name": ""}, "name"),
        ({"colour": "red"}, "colour"),
    ],
)
def test_a_page_that_cannot_be_drawn_says_why(service: RunningService, wrong: dict[str, Any], said: str) -> None:
    with service.http(service.token) as http:
        answer = http.post("/api/v1/chart_pages", json={"name": "a", "rows": ROWS, **wrong})
    assert answer.status_code == 422 and said in answer.text


def test_names_and_colours_are_ones_own(
    service: RunningService, rowan: Herald, monkeypatch: pytest.MonkeyPatch
) -> None:
    mine = service.herald.charts
    everywhere = SeriesStyle(series="TA-1", name="by the oak", colour="#2f7f6f")
    once = SeriesStyle(series="TA-1", signal="weight", colour="#aa3355")
    mine.style(everywhere)
    mine.style(once)
    assert mine.styles() == [everywhere, once] and rowan.charts.styles() == []
    monkeypatch.setattr(charts, "MOST_STYLES", 2)
    with pytest.raises(ProblemError, match="Take some back"):
        mine.style(SeriesStyle(series="TA-2", name="by the brook"))
    mine.style(everywhere.model_copy(update={"name": "by the old oak"}))
    mine.style(SeriesStyle(series="TA-1"))
    assert mine.styles() == [once]
    with service.http(service.token) as http:
        assert http.put("/api/v1/series_styles", json={"series": "TA-1", "colour": "red"}).status_code == 422


def test_somebody_narrowed_keeps_pages_and_sees_their_own_devices_on_them(service: RunningService) -> None:
    with add_person(service, "sorrel", Role.OPERATOR, only="site = fernhollow") as http:
        kept = http.post("/api/v1/chart_pages", json=page().model_dump(mode="json"))
        assert kept.status_code == 201
        number = kept.json()["id"]
        assert http.get(f"/api/v1/chart_pages/{number}").json()["mine"]
        assert http.delete(f"/api/v1/chart_pages/{number}").status_code == 204
