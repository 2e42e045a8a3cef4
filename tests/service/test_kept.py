import asyncio

import pytest

from mellow_herald.service import kept
from mellow_herald.service.kept import Kept


async def test_it_is_counted_once_for_all_who_ask_and_again_after_a_while(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(kept, "MOST_S", 0.3)
    counted = 0

    async def count() -> int:
        nonlocal counted
        counted += 1
        number = counted
        await asyncio.sleep(0.05)
        return number

    answers = Kept()
    assert await answers.get("devices", count) == 1 == await answers.get("devices", count)
    assert await answers.get("others", count) == 2, "another question has another answer"
    assert await answers.get("past", count, for_good=True) == 3
    await asyncio.sleep(0.35)
    assert await answers.get("past", count, for_good=True) == 3
    first = asyncio.create_task(answers.get("devices", count))
    others = [asyncio.create_task(answers.get("devices", count)) for _ in range(5)]
    await asyncio.sleep(0.01)
    first.cancel()
    assert await asyncio.gather(*others) == [4] * 5, "who hangs up takes nobody's answer away"


async def test_a_count_that_fails_is_not_kept() -> None:
    async def fails() -> int:
        raise ConnectionError

    async def works() -> int:
        return 7

    answers = Kept()
    for _ in range(2):
        with pytest.raises(ConnectionError):
            await answers.get("devices", fails)
    assert await answers.get("devices", works) == 7
