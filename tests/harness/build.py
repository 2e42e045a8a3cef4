"""The example firmware project, built by the machine's own compiler."""

import shutil
import subprocess
import sys
from pathlib import Path

EXAMPLE = Path(__file__).parents[2] / "examples" / "firmware"


def build_firmware(folder: Path, version: str = "2.6.0", build_id: str = "ta-test") -> Path:
    """Copies the project, builds it for both slots in all formats, and returns the folder with the outputs."""
    for name in ("Makefile", "nameplate.mk", "main.c", "board.ld", "release.toml"):
        shutil.copy(EXAMPLE / name, folder)
    herald = f"{sys.executable} -m mellow_herald.cli.main"
    arguments = [f"HERALD={herald}", f"VERSION={version}", f"BUILD_ID={build_id}", "SOURCE_DATE_EPOCH=1795000000"]
    done = subprocess.run(["make", *arguments], cwd=folder, capture_output=True, text=True, timeout=120, check=False)
    assert done.returncode == 0, done.stderr
    return folder / "build"
