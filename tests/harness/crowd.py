"""Thousands of devices at once, on a few connections: each with a flash of its own that boots only what it has
clearance for."""

import asyncio
import json
from collections.abc import Awaitable, Callable, Iterable
from dataclasses import dataclass, field
from typing import Any

from mellow_herald.client import Herald
from mellow_herald.core.digest import sha256_hex
from mellow_herald.core.keys import raw_public
from mellow_herald.wire.board import BoardIn
from mellow_herald.wire.fleet import CodeIn
from mellow_herald.wire.plan import PlanDocument
from tests.harness.firmware import BOARD, DOMAIN, LINE, Publisher, make_bytes

LINES = 48
OLD, NEW = sha256_hex(make_bytes("2.4.0")), sha256_hex(make_bytes("2.5.0"))


def prepare(herald: Herald, devices: int) -> str:
    """A board, keys and two releases; returns an enrolment code for so many devices."""
    publisher = Publisher()
    slots = [{"name": "a", "size": 65536}, {"name": "b", "size": 65536}]
    herald.boards.add(
        BoardIn(name=BOARD, vendor_domain=DOMAIN, lines=[LINE], hw_revs=[1, 2, 3], slots=slots, check_in="1h")  # type: ignore[arg-type]
    )
    herald.keys.publish(raw_public(publisher.root), publisher.key_list_bytes())
    for version in ("2.4.0", "2.5.0"):
        herald._http.post(
            "/api/v1/releases",
            content=publisher.release_file(version),
            headers={"content-type": "application/suit-envelope+cose"},
        ).raise_for_status()
    code = herald.codes.make(CodeIn(board=BOARD, line=LINE, uses=devices)).code
    assert code is not None
    return code


def plan(**more: object) -> PlanDocument:
    """The new release to all of them at once."""
    return PlanDocument.model_validate(
        {
            "name": "to all",
            "release": f"{BOARD}/{LINE}/2.5.0",
            "target": f"board = {BOARD}",
            "rings": [{"name": "all", "soak": "0s"}],
            "numbers": {"retries": 0, "answer_within": "10h"},
            **more,
        }
    )


@dataclass(slots=True)
class Member:
    """One device: what its flash boots, and the clearance by which it got there."""

    serial: str
    hw_rev: int = 1
    token: str = ""
    boots: int = 1
    seq: int = 0
    boots_image: str = OLD
    standby: str | None = None
    attempt: int | None = None
    clearances: list[int] = field(default_factory=list)


class Connection:
    """A kept connection that says one call after the other."""

    def __init__(self, port: int) -> None:
        self._port = port
        self._reader: asyncio.StreamReader
        self._writer: asyncio.StreamWriter

    async def open(self) -> "Connection":
        """Connects."""
        self._reader, self._writer = await asyncio.open_connection("127.0.0.1", self._port)
        return self

    async def post(self, path: str, said: dict[str, Any], token: str = "") -> tuple[int, Any]:
        """Status and body of the answer; a connection that was cut is made anew."""
        body = json.dumps(said).encode()
        head = f"POST /device/v1{path} HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\n"
        head += f"Authorization: Bearer {token}\r\n" if token else ""
        while True:
            try:
                self._writer.write(head.encode() + b"Content-Length: %d\r\n\r\n%b" % (len(body), body))
                return await self._answer()
            except (ConnectionError, asyncio.IncompleteReadError):
                await asyncio.sleep(0.05)
                await self.open()

    async def _answer(self) -> tuple[int, Any]:
        head = (await self._reader.readuntil(b"\r\n\r\n")).decode().lower()
        status, length = int(head.split(" ", 2)[1]), 0
        for line in head.split("\r\n"):
            if line.startswith("content-length:"):
                length = int(line.partition(":")[2])
        body = await self._reader.readexactly(length) if length else b""
        return status, json.loads(body) if body else None

    def close(self) -> None:
        """Hangs up."""
        self._writer.close()


class Crowd:
    """All of them."""

    def __init__(self, port: int, count: int, *, revisions: int = 3) -> None:
        self._port = port
        self.members = [Member(f"TA-{number:05d}", 1 + number % revisions) for number in range(count)]
        self._connections: asyncio.Queue[Connection] = asyncio.Queue()

    async def open(self, lines: int = LINES) -> None:
        """Connects so many times."""
        for _ in range(lines):
            self._connections.put_nowait(await Connection(self._port).open())

    def close(self) -> None:
        """Hangs up."""
        while not self._connections.empty():
            self._connections.get_nowait().close()

    async def each(self, members: Iterable[Member], deed: Callable[[Member], Awaitable[Any]]) -> list[Any]:
        """Does the same with many of them at once."""
        return await asyncio.gather(*(deed(member) for member in members))

    async def enrol(self, member: Member, code: str) -> None:
        """Gets its token."""
        said = {
            "serial": member.serial,
            "board": BOARD,
            "line": LINE,
            "hw_rev": member.hw_rev,
            "code": code,
            "nonce": f"nonce-of-{member.serial}",
            "labels": {"site": "fernhollow"},
        }
        _, answer = await self.post(member, "/enrolments", said)
        member.token = answer["token"]

    async def check_in(self, member: Member, **more: Any) -> str | None:
        """A check-in; a clearance is acted upon at once: the flash boots the new image. Returns the order."""
        member.seq += 1
        standby = {} if member.standby is None else {"app": _content(member.standby, "b")}
        said = {
            "boots": member.boots,
            "seq": member.seq,
            "ready": True,
            "condition": {"battery": 80},
            "updater": 2,
            "running": {"app": _content(member.boots_image, "a")},
            "standby": standby,
            **more,
        }
        status, answer = await self.post(member, "/checkins", said)
        if status != 200:
            return None
        member.attempt = answer.get("attempt", member.attempt)
        if answer.get("order") == "switch" and member.boots_image == OLD:
            member.clearances.append(answer["clearance"]["number"])
            member.boots_image, member.standby = member.standby or NEW, OLD
        return str(answer.get("order"))

    async def report(self, member: Member, *states: str, **more: Any) -> None:
        """Reports of the attempt, in one call."""
        said = []
        for state in states:
            member.seq += 1
            named = {"digests": {"app": member.boots_image}} if state == "confirmed" else {}
            said.append(
                {"boots": member.boots, "seq": member.seq, "attempt": member.attempt, "state": state, **named, **more}
            )
        await self.post(member, "/reports", {"reports": said})

    async def stage(self, member: Member) -> None:
        """From the offer to the staged image."""
        if await self.check_in(member) == "fetch":
            await self.report(member, "downloading", step="fetch", percent=50)
            member.standby = NEW
            await self.report(member, "staged")

    async def post(self, member: Member, path: str, said: dict[str, Any]) -> tuple[int, Any]:
        """A call of a device: its status and its answer."""
        connection = await self._connections.get()
        try:
            return await connection.post(path, said, member.token)
        finally:
            self._connections.put_nowait(connection)


def _content(digest: str, slot: str) -> dict[str, Any]:
    version = "2.4.0" if digest == OLD else "2.5.0"
    return {"version": version, "digest": digest, "slot": slot, "floor": 4}
