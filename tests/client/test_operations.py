"""Every operation of the API is in the client, by its method and its path; and a wrong reading of an answer is no
program."""

import inspect
import re
import subprocess
import sys
from collections.abc import Callable, Iterator, Mapping
from enum import Enum
from itertools import product
from pathlib import Path
from types import ModuleType, UnionType
from typing import Any, Literal, get_args, get_origin, get_type_hints
from unittest.mock import MagicMock

from mellow_herald.client import (
    calls,
    chart_calls,
    coap_calls,
    comparison_calls,
    fleet_calls,
    radio_calls,
    readings_calls,
    recording_calls,
    rehearsal_calls,
    rollout_calls,
    say_calls,
)
from mellow_herald.client.calls import Call
from mellow_herald.client.transport import EVENTS
from mellow_herald.service.app import create_app, describe

# What describes itself is in no description.
UNDESCRIBED = {("GET", "/api/v1/openapi.json"), ("GET", "/schemas/plan.json")}
MODULES = (
    calls,
    chart_calls,
    coap_calls,
    comparison_calls,
    fleet_calls,
    radio_calls,
    readings_calls,
    recording_calls,
    rehearsal_calls,
    rollout_calls,
    say_calls,
)
# Good as a name, a serial, a reason and a length of time.
IN_PATH = "30m"


def values(hint: Any) -> list[Any]:
    """Some values of a parameter; all that a Literal allows, since a call may put them into its path."""
    if get_origin(hint) is Literal:
        return list(get_args(hint))
    if get_origin(hint) is Mapping:
        return [{}]
    if get_origin(hint) is list:
        return [values(get_args(hint)[0])]
    if isinstance(hint, UnionType):
        return values(get_args(hint)[0])
    if isinstance(hint, type) and issubclass(hint, Enum):
        return [next(iter(hint))]
    if hint in (int, float):
        return [7]
    known = {str: IN_PATH, bytes: b"x", bool: True}
    return [known.get(hint) if hint in known else MagicMock()]


def made(function: Callable[..., Call[Any]]) -> Iterator[Call[Any]]:
    """The calls that a function makes for some values of its parameters."""
    hints = get_type_hints(function)
    plain = [p.name for p in inspect.signature(function).parameters.values() if p.kind is not p.VAR_KEYWORD]
    for chosen in product(*(values(hints[name]) for name in plain)):
        yield function(**dict(zip(plain, chosen, strict=True)))


def all_calls(module: ModuleType) -> Iterator[Call[Any]]:
    """What the module's public functions that make a call make."""
    for name, function in inspect.getmembers(module, inspect.isfunction):
        if function.__module__ != module.__name__ or name.startswith("_") or name in ("get", "post"):
            continue
        if get_origin(get_type_hints(function).get("return")) is Call:
            yield from made(function)


def fits(path: str, template: str) -> bool:
    """Whether a path is one of an operation's."""
    return re.fullmatch(re.sub(r"\\{[^}]+\\}", "[^/]+", re.escape(template)), path) is not None


def operations() -> set[tuple[str, str]]:
    """Method and path of all that engineers may call."""
    paths = describe(create_app(MagicMock()))["paths"]
    return {
        (method.upper(), path)
        for path, methods in paths.items()
        if not path.startswith("/device/")
        for method in methods
        if method in ("get", "post", "put", "patch", "delete")
    }


def test_every_operation_is_in_the_client_and_nothing_else() -> None:
    ours = {(c.method, c.path) for module in MODULES for c in all_calls(module)}
    ours.add(("GET", EVENTS))
    theirs = operations()
    assert len(theirs) > 70

    def served(method: str, path: str) -> set[tuple[str, str]]:
        found = {one for one in theirs if one[0] == method and fits(path, one[1])}
        # /previews/devices also fits /previews/{x}: what is written out goes first.
        exact = {one for one in found if one[1] == path}
        return exact or found

    reached = set().union(*(served(*one) for one in ours))
    assert theirs - reached == set(), "operations that the client does not have"
    assert {one for one in ours if not served(*one)} == UNDESCRIBED, "calls that the service does not have"


WRONG = """
from mellow_herald.client.calls import API, Call, get
from mellow_herald.wire.board import BoardOut


def right() -> Call[list[BoardOut]]:
    return get("listing boards", f"{API}/boards", list[BoardOut])


def list_boards() -> Call[list[BoardOut]]:
    return get("listing boards", f"{API}/boards", int)
"""


def test_a_call_that_reads_something_else_than_it_says_is_a_type_error(tmp_path: Path) -> None:
    wrong = tmp_path / "wrong.py"
    wrong.write_text(WRONG)
    root = Path(__file__).parents[2]
    command = [sys.executable, "-m", "mypy", "--config-file", str(root / "pyproject.toml"), "--strict", str(wrong)]
    checked = subprocess.run(command, cwd=root, capture_output=True, text=True, timeout=300)
    errors = [line for line in checked.stdout.splitlines() if "error:" in line]
    assert checked.returncode == 1 and len(errors) == 1, checked.stdout + checked.stderr
    at = next(n for n, line in enumerate(WRONG.splitlines(), 1) if "int)" in line)
    assert f":{at}:" in errors[0]
    assert "int" in errors[0] and "BoardOut" in errors[0]
