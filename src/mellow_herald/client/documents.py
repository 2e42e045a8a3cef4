"""TOML files of engineers: read, checked, and blamed at the right place."""

import tomllib
from pathlib import Path
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from mellow_herald.core.refusal import Refused
from mellow_herald.wire.mistakes import mistakes

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
        raise Refused("bad-file", f"{path}:{mistakes(error, model)}") from None
