"""TOML files of engineers: read, checked, and blamed at the right place."""

import difflib
import tomllib
from pathlib import Path
from typing import Any, TypeVar, get_args

from pydantic import BaseModel, ValidationError

from mellow_herald.core.refusal import Refused

Document = TypeVar("Document", bound=BaseModel)


def read_document(path: Path, model: type[Document]) -> Document:
    """Reads a TOML file into a model; raises ``Refused`` with file, place and mistake."""
    try:
        content: dict[str, Any] = tomllib.loads(path.read_text())
    except OSError as error:
        raise Refused("no-file", f"{path} cannot be read ({error.strerror}).") from None
    except UnicodeDecodeError:
        raise Refused("bad-file", f"{path} is not a text file.", "Pass a TOML file.") from None
    except tomllib.TOMLDecodeError as error:
        raise Refused("bad-file", f"{path} is not TOML: {error}.") from None
    try:
        return model.model_validate(content)
    except ValidationError as error:
        wrong = [_words(one["loc"], one["type"], one["msg"], model) for one in error.errors()]
        told = f" {wrong[0]}" if len(wrong) == 1 else "".join(f"\n  {line}" for line in wrong)
        raise Refused("bad-file", f"{path}:{told}") from None


def _words(place: tuple[int | str, ...], kind: str, message: str, model: type[BaseModel]) -> str:
    where = ".".join(str(part) for part in place)
    if kind == "missing":
        return f"{where}: is missing"
    if kind != "extra_forbidden":
        return f"{where}: {message.removeprefix('Value error, ')}"
    keys = _keys(model, place[:-1])
    near = difflib.get_close_matches(str(place[-1]), keys, n=1)
    meant = f"did you mean {near[0]}?" if near else f"known here: {', '.join(keys)}"
    return f"{where}: is no key that is known; {meant}"


def _keys(model: Any, place: tuple[int | str, ...]) -> list[str]:
    """The keys that may stand at a place of a document."""
    for part in place:
        if isinstance(part, str) and model is not None:
            fields = {field.alias or name: field for name, field in model.model_fields.items()}
            model = _model_in(fields[part].annotation) if part in fields else None
    return [] if model is None else [field.alias or name for name, field in model.model_fields.items()]


def _model_in(annotation: Any) -> type[BaseModel] | None:
    """The first model that an annotation is made of."""
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return annotation
    return next((found for one in get_args(annotation) if (found := _model_in(one)) is not None), None)
