"""What is wrong with a file that somebody wrote, in words, each with its place."""

from collections.abc import Mapping
from difflib import get_close_matches
from typing import Any, get_args, get_origin

from pydantic import BaseModel, ValidationError

Place = tuple[int | str, ...]


def mistakes(error: ValidationError, model: type[BaseModel]) -> str:
    """All that is wrong, to stand behind a file's name: in its line if it is one thing, else how much, and a line of
    its own (indented) for each."""
    found = [_words(one["loc"], one["type"], one["msg"], model) for one in error.errors()]
    if len(found) == 1:
        return f" {found[0]}"
    return f" {len(found)} things are wrong." + "".join(f"\n  {line}" for line in found)


def _words(place: Place, kind: str, message: str, model: type[BaseModel]) -> str:
    where = ".".join(str(part) for part in place)
    if kind == "missing":
        return f"{where} is missing"
    if kind != "extra_forbidden":
        plain = message.removeprefix("Value error, ")
        return f"{where}: {plain}" if where else plain
    keys = _keys(model, place[:-1])
    near = get_close_matches(str(place[-1]), keys, n=1)
    meant = f"did you mean {near[0]}?" if near else f"there are {', '.join(keys)}"
    return f"{where} is not a key that is known here; {meant}"


def _keys(model: Any, place: Place) -> list[str]:
    """The keys that may stand at a place of a document."""
    at = model
    for part in place:
        if isinstance(part, str) and (fields := _fields(at)) and part in fields:
            at = fields[part]
        elif get_origin(at) in (dict, Mapping):
            at = get_args(at)[1]
    return list(_fields(at))


def _fields(annotation: Any) -> dict[str, Any]:
    """The keys of the first model that an annotation is made of, and what is behind each."""
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return {field.alias or name: field.annotation for name, field in annotation.model_fields.items()}
    if get_origin(annotation) in (dict, Mapping):
        return {}
    return next((found for one in get_args(annotation) if (found := _fields(one))), {})
