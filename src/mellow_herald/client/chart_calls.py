"""The calls about chart pages, and about how series look."""

from pydantic import BaseModel

from mellow_herald.client.calls import API, Call, Result, get, post, reader
from mellow_herald.wire.charts import ChartPageChange, ChartPageIn, ChartPageOut, SeriesStyle

PAGES, STYLES = f"{API}/chart_pages", f"{API}/series_styles"


def _put(doing: str, path: str, kind: type[Result], body: BaseModel, *, repeatable: bool) -> Call[Result]:
    headers = {"content-type": "application/json"}
    content = body.model_dump_json().encode()
    return Call(doing, "PUT", path, reader(kind), body=content, headers=headers, repeatable=repeatable)


def list_chart_pages() -> Call[list[ChartPageOut]]:
    """Chart pages."""
    return get("listing chart pages", PAGES, list[ChartPageOut])


def show_chart_page(number: int) -> Call[ChartPageOut]:
    """One chart page."""
    return get(f"looking at chart page {number}", f"{PAGES}/{number}", ChartPageOut)


def keep_chart_page(asked: ChartPageIn) -> Call[ChartPageOut]:
    """Keeps a chart page."""
    return post(f"keeping the chart page {asked.name}", PAGES, ChartPageOut, asked)


def change_chart_page(number: int, asked: ChartPageChange) -> Call[ChartPageOut]:
    """Changes a chart page."""
    return _put(f"changing chart page {number}", f"{PAGES}/{number}", ChartPageOut, asked, repeatable=False)


def drop_chart_page(number: int) -> Call[None]:
    """Drops a chart page."""
    return Call(f"dropping chart page {number}", "DELETE", f"{PAGES}/{number}", lambda _: None)


def list_series_styles() -> Call[list[SeriesStyle]]:
    """How series look."""
    return get("asking how series look", STYLES, list[SeriesStyle])


def set_series_style(style: SeriesStyle) -> Call[SeriesStyle]:
    """Gives a series a name and a colour."""
    return _put(f"naming {style.series}", STYLES, SeriesStyle, style, repeatable=True)
