"""What README and handbook show is true: every `herald …` is a command with these options, every Python block fits the
library, every plan and board is one, every link leads somewhere."""

import ast
import inspect
import re
import shlex
import tomllib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any, get_type_hints

import pytest
import typer

from mellow_herald.cli.main import app
from mellow_herald.client import Herald

PROJECT = Path(__file__).parents[2]
PAGES = [PROJECT / "README.md", PROJECT / "CONTRIBUTING.md", *sorted((PROJECT / "docs").glob("*.md"))]
FENCE = re.compile(r"^```(\w*)\n(.*?)^```$", re.MULTILINE | re.DOTALL)
INLINE = re.compile(r"`(herald [^`]+)`")
# A remark stands two spaces after the command, or three dots for what is left out.
REMARK = re.compile(r"\s{2,}\S.*$")
ROOT = typer.main.get_command(app)


@dataclass(frozen=True)
class Shown:
    """A command as a page shows it; ``whole`` ones stand in a block and can be typed."""

    page: str
    line: int
    text: str
    whole: bool

    def __str__(self) -> str:
        return f"{self.page}:{self.line} {self.text[:60]}"


def commands() -> Iterator[Shown]:
    for page in PAGES:
        text = page.read_text()
        for fence in FENCE.finditer(text):
            if fence[1] not in ("", "sh", "shell"):
                continue
            first = text[: fence.start()].count("\n") + 2
            for offset, line in enumerate(re.sub(r"\s*\\\n\s*", " ", fence[2]).splitlines()):
                bare = line.strip().removeprefix("$ ")
                if bare.startswith("herald "):
                    yield Shown(page.name, first + offset, REMARK.sub("", bare), True)
        without = FENCE.sub(lambda found: "\n" * found[0].count("\n"), text)
        for found in INLINE.finditer(without):
            yield Shown(page.name, without[: found.start()].count("\n") + 1, " ".join(found[1].split()), False)


def resolve(words: list[str]) -> tuple[Any, list[str]]:
    """The command that words name, and what is left for it."""
    command: Any = ROOT
    while words and hasattr(command, "commands"):
        assert words[0] in command.commands, f"there is no command {words[0]!r} below {command.name!r}"
        command, words = command.commands[words[0]], words[1:]
    return command, words


def parse(shown: Shown) -> None:
    open_ended = any(mark in shown.text for mark in "…|[")
    text = shown.text.split("|")[0].replace("…", " ")
    command, words = resolve([word for word in shlex.split(text)[1:] if word not in ("[", "]", "&")])
    if hasattr(command, "commands"):
        assert not shown.whole and not words, "a group of commands does nothing by itself"
        return
    if not shown.whole or open_ended:
        # Only named, with some of its options: what an option takes may be left out.
        known = {name for option in command.params for name in (*option.opts, *option.secondary_opts)}
        for word in words:
            assert not word.startswith("--") or word.partition("=")[0] in known, f"there is no option {word}"
        return
    context = command.context_class(command, info_name=command.name)
    values, left, _ = command.make_parser(context).parse_args(args=words)
    assert not left, f"{left} are too many words"
    missing = [
        p.name for p in command.params if p.required and not values.get(p.name) and not getattr(p, "prompt", None)
    ]
    assert not missing, f"{missing} are missing"


ALL = list(commands())


def test_the_handbook_shows_commands_at_all() -> None:
    assert len(ALL) > 100 and sum(shown.whole for shown in ALL) > 40


@pytest.mark.parametrize("shown", ALL, ids=str)
def test_every_command_that_is_shown_is_one(shown: Shown) -> None:
    parse(shown)


def blocks(*languages: str) -> list[Any]:
    found = []
    for page in PAGES:
        text = page.read_text()
        for fence in FENCE.finditer(text):
            if fence[1] in languages:
                line = text[: fence.start()].count("\n") + 2
                found.append(pytest.param(fence[2], id=f"{page.name}:{line}"))
    return found


class Library(ast.NodeVisitor):
    """Follows names of the library through a block: each attribute must be there, each call must fit."""

    def __init__(self, names: dict[str, Any]) -> None:
        self.names = names
        self.calls = 0

    def value(self, node: ast.expr) -> Any:
        """What a dotted name stands for in the library; None where it is something else."""
        if isinstance(node, ast.Name):
            return self.names.get(node.id)
        if isinstance(node, ast.Attribute):
            owner = self.value(node.value)
            if owner is None:
                return None
            assert hasattr(owner, node.attr), f"{ast.unparse(node.value)} has no {node.attr}"
            return getattr(owner, node.attr)
        return None

    def visit_With(self, node: ast.With) -> None:
        for item in node.items:
            if isinstance(item.context_expr, ast.Call) and self.value(item.context_expr.func) is Herald:
                assert isinstance(item.optional_vars, ast.Name)
                self.names[item.optional_vars.id] = Herald("http://127.0.0.1:9", token="mht_none")
        self.generic_visit(node)

    def visit_Call(self, node: ast.Call) -> None:
        called = self.value(node.func)
        if called is not None:
            self.calls += 1
            named = {word.arg: word.value for word in node.keywords if word.arg}
            bound = inspect.signature(called).bind(*node.args, **named)
            hints = get_type_hints(called) if inspect.isroutine(called) else {}
            for name, given in bound.arguments.items():
                if isinstance(given, ast.Constant) and name in hints and given.value is not None:
                    kind = type(given.value).__name__
                    fits = kind in str(hints[name]) or (kind == "int" and "float" in str(hints[name]))
                    assert fits, f"{name} of {ast.unparse(node.func)} takes {hints[name]}, not {kind}"
        self.generic_visit(node)


@pytest.mark.parametrize("block", blocks("python"))
def test_every_python_block_fits_the_library(block: str) -> None:
    tree = ast.parse(block)
    names: dict[str, Any] = {"herald": Herald("http://127.0.0.1:9", token="mht_none")}
    for statement in tree.body:
        if isinstance(statement, ast.Import | ast.ImportFrom):
            exec(compile(ast.Module([statement], []), "<block>", "exec"), names)
    library = Library(names)
    library.visit(tree)
    assert library.calls, "nothing of the library was looked at"


@pytest.mark.parametrize("block", blocks("toml"))
def test_every_toml_block_is_toml(block: str) -> None:
    tomllib.loads(block)


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_a_page_is_drawn_as_it_is_meant_and_its_links_lead_somewhere(page: Path) -> None:
    text = page.read_text()
    assert text.count("\n```") % 2 == 0 or text.startswith("```"), "a block is left open"
    without = FENCE.sub("", text)
    for line in without.splitlines():
        assert not re.match(r" {4,}\|", line), f"drawn as code, not as a table: {line.strip()[:60]}"
    for target in re.findall(r"\]\(([^)\s]+)\)", without):
        if not re.match(r"[a-z]+:", target) and not target.startswith("#"):
            assert (page.parent / target.partition("#")[0]).exists(), f"{target} is not there"
