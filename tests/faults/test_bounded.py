"""What of the table of faults is tried with every run of the tests: one seed each of what hurts most."""

from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.faults.table import FAULTS
from tests.faults.trial import Trials
from tests.harness.processes import open_folder

pytestmark = pytest.mark.system
TRIED = {
    "postgresql-killed": 101,
    "database-full": 102,
    "postgresql-frozen": 103,
    "workers-killed": 104,
    "clock-set": 105,
    "machine-lost": 106,
    "service-killed": 107,
}


@pytest.fixture(scope="module")
def trials() -> Iterator[Trials]:
    with open_folder() as folder:
        made = Trials(Path(folder))
        yield made
        made.stop()


@pytest.mark.parametrize("name", TRIED)
def test_every_invariant_holds_after(name: str, trials: Trials) -> None:
    fault = FAULTS[name]
    outcome = trials.run(name, fault.done, TRIED[name], fault.moment)
    print(outcome)
    assert outcome.holds, {number: said for number, said in outcome.wrong.items() if said}
