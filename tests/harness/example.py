"""The device of the standard library, as a module."""

import importlib.util
import sys
from pathlib import Path
from types import ModuleType

EXAMPLES = Path(__file__).parents[2] / "examples"


def load_example(name: str = "device") -> ModuleType:
    """A fresh copy of ``examples/{name}.py``."""
    spec = importlib.util.spec_from_file_location(f"example_{name}", EXAMPLES / f"{name}.py")
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    before = [*sys.path]
    spec.loader.exec_module(module)  # it finds what stands beside it by itself
    sys.path[:] = before
    return module
