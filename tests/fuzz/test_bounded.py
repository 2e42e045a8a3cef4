"""What of the fuzzing is tried with every run of the tests. ``make fuzz`` goes on longer, with other seeds."""

import re
from pathlib import Path

import pytest

from tests.fuzz.bytes import read, send
from tests.fuzz.document import WHAT_IS_THERE, fill, put
from tests.harness.service import RunningService
from tests.harness.some import some


def test_bytes_of_any_kind_are_answered_and_change_nothing(service: RunningService) -> None:
    found = send(service, 60, seed=1)
    print(found.answers)
    assert found.wrong == []
    assert some(found.answers, 15)


def test_files_of_any_kind_are_refused_with_a_word(tmp_path: Path) -> None:
    found = read(tmp_path, 250, seed=1)
    print(found.answers)
    assert found.wrong == []
    for what in ("image", "ihex", "srec", "selector", "board", "cbor", "envelope"):
        # Most of an image may be any byte.
        assert found.answers[f"{what} refused"] > (0 if what == "image" else 10), what


@pytest.mark.system
def test_the_whole_document_holds_with_all_checks(service: RunningService) -> None:
    fill(service)
    # What it makes up of schemas' edges are eight thousand calls more: that is for `make fuzz`.
    done = put(service, WHAT_IS_THERE, 3, 1, "--phases=examples,fuzzing")
    assert done.returncode == 0, done.stdout[-20_000:] + done.stderr[-2000:]
    tested = re.search(r"Tested: (\d+)", done.stdout)
    assert tested is not None and int(tested[1]) > 100
