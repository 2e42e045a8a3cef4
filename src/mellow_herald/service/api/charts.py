"""Chart pages, and how series look to whom."""

from fastapi import APIRouter

from mellow_herald.service.api.parameters import Ctx, Id
from mellow_herald.service.people.callers import Anyone
from mellow_herald.service.problems import problems
from mellow_herald.service.readings import charts
from mellow_herald.wire.charts import ChartPageChange, ChartPageIn, ChartPageOut, SeriesStyle

router = APIRouter(tags=["readings"])


@router.get("/chart_pages", responses=problems())
async def list_chart_pages(who: Anyone, context: Ctx) -> list[ChartPageOut]:
    """One's own chart pages and those that are shared, by name."""
    return await charts.show_all(context, who)


@router.post("/chart_pages", status_code=201, responses=problems(409))
async def keep_chart_page(asked: ChartPageIn, who: Anyone, context: Ctx) -> ChartPageOut:
    """Keeps a chart page, for oneself or shared with everybody."""
    return await charts.keep(context, asked, who)


@router.get("/chart_pages/{number}", responses=problems(404))
async def show_chart_page(number: Id, who: Anyone, context: Ctx) -> ChartPageOut:
    """One chart page."""
    return await charts.show(context, number, who)


@router.put("/chart_pages/{number}", responses=problems(403, 404, 409))
async def change_chart_page(number: Id, asked: ChartPageChange, who: Anyone, context: Ctx) -> ChartPageOut:
    """Changes a chart page of one's own."""
    return await charts.change(context, number, asked, who)


@router.delete("/chart_pages/{number}", status_code=204, responses=problems(403, 404))
async def drop_chart_page(number: Id, who: Anyone, context: Ctx) -> None:
    """Drops a chart page of one's own."""
    await charts.drop(context, number, who)


@router.get("/series_styles", responses=problems())
async def list_series_styles(who: Anyone, context: Ctx) -> list[SeriesStyle]:
    """Which names and colours one has given to series."""
    return await charts.list_styles(context, who)


@router.put("/series_styles", responses=problems(409))
async def set_series_style(style: SeriesStyle, who: Anyone, context: Ctx) -> SeriesStyle:
    """Gives a series a name and a colour, for oneself; takes them back where neither is said."""
    return await charts.set_style(context, style, who)
