"""What holds of the house as a whole, besides what the import contracts say."""

import ast
import re
from collections.abc import Iterator
from pathlib import Path

import pytest

PROJECT = Path(__file__).parents[1]
SOURCE = PROJECT / "src" / "mellow_herald"
# What has a term of the trade uses it: a name is there to be grepped.
NO_NAMES = {"words", "said", "known", "held", "found"}
LONGEST = 500


def python_files(*folders: str) -> list[Path]:
    files = [path for folder in folders for path in (PROJECT / folder).rglob("*.py")]
    assert len(files) > 20
    return files


def public_functions(tree: ast.Module) -> Iterator[str]:
    """Of a module and of its classes."""
    for node in tree.body:
        inner = node.body if isinstance(node, ast.ClassDef) else [node]
        yield from (one.name for one in inner if isinstance(one, ast.FunctionDef | ast.AsyncFunctionDef))


@pytest.mark.parametrize("path", python_files("src"), ids=lambda path: str(path.relative_to(SOURCE.parent)))
def test_no_module_and_no_public_function_has_a_name_that_says_nothing(path: Path) -> None:
    assert path.stem not in NO_NAMES
    assert not NO_NAMES & set(public_functions(ast.parse(path.read_text())))


def test_the_formatter_has_the_last_word() -> None:
    mark = "fmt: " + "skip"
    assert [
        path for path in python_files("src", "tests", "bench", "scripts", "examples") if mark in path.read_text()
    ] == []


def test_no_file_is_too_long_to_be_read() -> None:
    generated = {"schema.d.ts"}
    written = [*python_files("src", "tests", "bench", "scripts", "examples"), *console_files()]
    long = {
        str(path.relative_to(PROJECT)): count
        for path in written
        if path.name not in generated and (count := len(path.read_text().splitlines())) > LONGEST
    }
    assert long == {}


def console_files() -> list[Path]:
    files = [path for path in (PROJECT / "console" / "src").rglob("*") if path.suffix in (".ts", ".vue", ".css")]
    assert len(files) > 10
    return files


def test_the_table_of_rooms_is_true() -> None:
    """docs/architecture.md names files that are there."""
    text = (PROJECT / "docs" / "architecture.md").read_text()
    named = set(re.findall(r"`((?:core|wire|store|service|client|sim|cli|demo)/[\w/.]*?)`", text))
    rooms = {f"service/{one}" for one in re.findall(r"`((?:api|calls|fleet|rollouts|releases)/\w+\.py)`", text)}
    assert len(named) > 15 and len(rooms) > 5
    assert [one for one in sorted(named | rooms) if "*" not in one and not (SOURCE / one).exists()] == []
