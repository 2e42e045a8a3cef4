"""The pipeline page's script and the files for Make and CMake do what the page says."""

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from mellow_herald.core.digest import sha256_hex
from mellow_herald.core.keys import private_to_pem
from mellow_herald.core.nameplate import find_nameplate
from tests.harness.example import EXAMPLES
from tests.harness.firmware import make_bytes
from tests.harness.patience import PATIENCE_S
from tests.harness.service import RunningService

Done = subprocess.CompletedProcess[str]


class Pipeline:
    """A machine with a key, a token and a build."""

    def __init__(self, service: RunningService, folder: Path) -> None:
        self.folder = folder
        (folder / "key.pem").write_bytes(private_to_pem(service.publisher.key))
        (folder / "key.pem").chmod(0o600)
        beside = str(Path(sys.executable).parent)
        self.environment = {
            **{name: value for name, value in os.environ.items() if not name.startswith("HERALD_")},
            **{"PATH": f"{beside}:{os.environ['PATH']}", "HERALD_URL": service.url, "HERALD_TOKEN": service.token},
            **{"KEY_FILE": str(folder / "key.pem"), "HERALD_CREDENTIALS": str(folder / "none.json")},
        }

    def build(self, version: str, **plate: object) -> Path:
        file = self.folder / f"{version}.bin"
        file.write_bytes(make_bytes(version, **plate))
        return file

    def publish(self, image: Path, *labels: str, **environment: str) -> Done:
        asked = [str(EXAMPLES / "publish.sh"), str(image), str(EXAMPLES / "boards" / "comb-s1.toml"), *labels]
        told = {**self.environment, **environment}
        return subprocess.run(asked, env=told, capture_output=True, text=True, timeout=PATIENCE_S, check=False)


@pytest.fixture
def pipeline(service: RunningService, tmp_path: Path) -> Pipeline:
    return Pipeline(service, tmp_path)


def test_what_was_built_is_a_draft_and_to_run_it_again_does_no_harm(
    pipeline: Pipeline, service: RunningService
) -> None:
    image = pipeline.build("2.6.0")
    first = pipeline.publish(image, "build=1234", "branch=main")
    assert first.returncode == 0, first.stderr
    assert pipeline.publish(image, "build=1234", "branch=main").returncode == 0
    (release,) = service.herald.releases.list().items
    assert (release.version, release.state) == ("2.6.0", "draft")
    assert release.labels == {"build": "1234", "branch": "main"}
    said = json.loads(first.stdout[first.stdout.index("{") :])
    assert said["version"] == "2.6.0"
    assert release.components[0].digest == sha256_hex(image.read_bytes())


def test_what_goes_wrong_is_told_by_its_exit_code(pipeline: Pipeline) -> None:
    image = pipeline.build("2.6.0")
    bare = pipeline.publish(pipeline.build("2.7.0", updater=0))
    assert bare.returncode == 1 and "updater" in bare.stdout + bare.stderr
    stranger = pipeline.publish(image, HERALD_TOKEN="mht_none")
    assert stranger.returncode == 3, stranger.stderr
    assert pipeline.publish(pipeline.folder / "none.bin").returncode in (1, 2)
    assert pipeline.publish(image, HERALD_URL="http://127.0.0.1:9").returncode == 1
    assert pipeline.publish(image).returncode == 0
    again = pipeline.publish(pipeline.build("2.6.0", fill=b"\x11\x22"))
    assert again.returncode == 1 and "with other bytes" in again.stderr


PROJECT = """
cmake_minimum_required(VERSION 3.20)
project(firmware C)
include({file})
add_executable(firmware main.c)
add_nameplate(firmware LINE hive-scale BOARD comb-s1 VERSION {version} FLOOR 4 HW_REV 1-3 BUILD_ID ta-0001
              NEEDS app=2.4.0)
target_link_options(firmware PRIVATE -Wl,--no-gc-sections)
"""


def test_cmake_links_a_nameplate_that_says_what_is_built_now(tmp_path: Path) -> None:
    file = EXAMPLES / "firmware" / "nameplate.cmake"
    (tmp_path / "main.c").write_text("int main(void) { return 0; }\n")

    def cmake(*words: str) -> Done:
        environment = {**os.environ, "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}"}
        return subprocess.run(
            ["cmake", *words], cwd=tmp_path, env=environment, capture_output=True, text=True, timeout=PATIENCE_S
        )

    for version in ("2.6.0", "2.6.1"):
        (tmp_path / "CMakeLists.txt").write_text(PROJECT.format(file=file, version=version))
        for words in (["-S", ".", "-B", "build"], ["--build", "build"]):
            done = cmake(*words)
            assert done.returncode == 0, done.stderr
        plate = find_nameplate((tmp_path / "build" / "firmware").read_bytes())
        assert plate is not None
        assert (plate.version, plate.floor, plate.hw_rev_max, plate.build_id) == (version, 4, 3, "ta-0001")
        assert dict(plate.needs) == {"app": "2.4.0"} and plate.build_time > 0
    (tmp_path / "CMakeLists.txt").write_text(PROJECT.format(file=file, version="2.6.2").replace("FLOOR 4", ""))
    assert "FLOOR is missing" in cmake("-S", ".", "-B", "build").stderr
