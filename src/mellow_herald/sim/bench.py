"""The bench: hands on single devices of a running sim, over a local socket that only its owner may use.

One line of JSON asks, one answers: ``{"do": "reset", "serial": "TA-S1-0001"}`` → ``{"said": "…"}`` or
``{"refused": "…"}``.
"""

import asyncio
import contextlib
import json
import os
import socket
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from mellow_herald.core.duration import parse_duration
from mellow_herald.core.refusal import Refused
from mellow_herald.sim.device import SimDevice

SOCKET = "bench.sock"
LONGEST_LINE = 1 << 16
TIMEOUT_S = 10.0


class Bench:
    """Serves the socket while its ``async with`` lasts."""

    def __init__(self, folder: Path, devices: Mapping[str, SimDevice]) -> None:
        self._path, self._devices = folder / SOCKET, devices

    async def __aenter__(self) -> "Bench":
        self._path.unlink(missing_ok=True)
        with _short(self._path) as path:
            self._server = await asyncio.start_unix_server(self._serve, path, limit=LONGEST_LINE)
        self._path.chmod(0o600)
        return self

    async def __aexit__(self, *_: object) -> None:
        self._server.close()
        self._path.unlink(missing_ok=True)

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            answer = self._answer(await reader.readline())
            writer.write(json.dumps(answer).encode() + b"\n")
            await writer.drain()
        except (ConnectionError, ValueError):
            pass
        finally:
            writer.close()

    def _answer(self, line: bytes) -> dict[str, Any]:
        try:
            asked = json.loads(line)
            if asked["do"] == "list":
                return {"devices": [_shown(device) for device in self._devices.values()]}
            device = self._devices.get(asked["serial"])
            if device is None:
                return {"refused": f"No device {asked['serial']} runs here. `herald sim list` shows those that do."}
            return {"said": _lay_hands(device, asked)}
        except (ValueError, KeyError, TypeError) as error:
            return {"refused": f"That cannot be done: {error}."}
        except (Refused, OSError) as error:
            return {"refused": str(error)}


def _lay_hands(device: SimDevice, asked: dict[str, Any]) -> str:
    serial = device.spec.serial
    match asked["do"]:
        case "reset":
            device.reset()
            return f"{serial} was reset"
        case "unplug":
            device.unplug()
            return f"{serial} has no power until `herald sim unplug {serial} --back`"
        case "plug":
            device.plug()
            return f"{serial} has power again"
        case "press":
            device.press()
            return f"the button of {serial} was pressed"
        case "cut":
            device.cut_link(parse_duration(asked["for"]).total_seconds())
            return f"the link of {serial} is cut for {asked['for']}"
        case "put":
            note = device.put(asked["name"], Path(asked["file"]).read_bytes())
            return f"{serial} has {note.digest[:16]}… as {asked['name']} now"
        case "flash":
            note = device.flash_by_cable(Path(asked["file"]).read_bytes())
            return f"{serial} was flashed by cable with {note.version or 'an image without a nameplate'}, {note.digest}"
    raise ValueError(f"{asked['do']} is nothing that can be done to a device")


def _shown(device: SimDevice) -> dict[str, Any]:
    record = device.hardware.record
    slot = device.running
    note = None if slot is None else record.note("app", slot)
    return {
        "serial": device.spec.serial,
        "board": device.spec.board,
        "lamp": device.lamp,
        "slot": slot.value if slot else "",
        "version": note.version if note else "",
        "boots": record.boots,
        "on_line": device.on_line,
        "speaks": "radio" if device.spec.radio else "coap" if device.spec.coap else "http",
    }


def ask(folder: Path, **asked: Any) -> dict[str, Any]:
    """Asks the sim that keeps its flash in ``folder``; raises ``Refused`` if none runs there, or it will not."""
    path = folder / SOCKET
    try:
        with _short(path) as short, socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as connection:
            connection.settimeout(TIMEOUT_S)
            connection.connect(short)
            connection.sendall(json.dumps(asked).encode() + b"\n")
            with connection.makefile("rb") as answers:
                answer: dict[str, Any] = json.loads(answers.readline())
    except (OSError, ValueError) as error:
        raise Refused(
            "no-sim",
            f"No sim answers at {path} ({error}).",
            "Start one with `herald sim run`, or name its folder with --data-dir.",
        ) from None
    if "refused" in answer:
        raise Refused("not-done", answer["refused"])
    return answer


@contextlib.contextmanager
def _short(path: Path) -> Any:
    """The path as a socket address may hold it: those are cut off at some hundred bytes."""
    folder = os.open(path.parent, os.O_RDONLY | os.O_DIRECTORY)
    try:
        yield f"/proc/self/fd/{folder}/{path.name}"
    finally:
        os.close(folder)
