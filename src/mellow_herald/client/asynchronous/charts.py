"""Chart pages, by the asynchronous client."""

from typing import TYPE_CHECKING

from mellow_herald.client import chart_calls as calls
from mellow_herald.wire.charts import ChartPageChange, ChartPageIn, ChartPageOut, SeriesStyle

if TYPE_CHECKING:
    from mellow_herald.client.asynchronous.herald import AsyncHerald

Styles = list[SeriesStyle]


class Charts:
    """Rows of signals that are looked at together, and how their series look to whoever asks."""

    def __init__(self, herald: "AsyncHerald") -> None:
        self._herald = herald

    async def list(self) -> list[ChartPageOut]:
        """One's own chart pages and those that are shared, by name."""
        return await self._herald.send(calls.list_chart_pages())

    async def show(self, number: int) -> ChartPageOut:
        """One chart page."""
        return await self._herald.send(calls.show_chart_page(number))

    async def keep(self, page: ChartPageIn) -> ChartPageOut:
        """Keeps a chart page, for oneself or shared with everybody."""
        return await self._herald.send(calls.keep_chart_page(page))

    async def change(self, number: int, page: ChartPageChange) -> ChartPageOut:
        """Changes a chart page of one's own, which has the edition that ``page`` was made from."""
        return await self._herald.send(calls.change_chart_page(number, page))

    async def drop(self, number: int) -> None:
        """Drops a chart page of one's own."""
        await self._herald.send(calls.drop_chart_page(number))

    async def styles(self) -> Styles:
        """Which names and colours one has given to series."""
        return await self._herald.send(calls.list_series_styles())

    async def style(self, style: SeriesStyle) -> SeriesStyle:
        """Gives a series a name and a colour, for oneself; takes them back where neither is said."""
        return await self._herald.send(calls.set_series_style(style))
