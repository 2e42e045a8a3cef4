"""``make fuzz``: longer than with the tests, and with a seed of its own.

python -m tests.fuzz [--seed N] [--rounds N] [--examples N]
"""

import argparse
import random
import tempfile
from pathlib import Path

from tests.fuzz.bytes import read, send
from tests.fuzz.document import ANYTHING, WHAT_IS_THERE, fill, put
from tests.harness.database import Databases
from tests.harness.service import RunningService


def main() -> None:
    """Runs all of it and says what was found."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--seed", type=int, default=random.randrange(10**6), help="drawn anew, if it is not given")
    parser.add_argument("--rounds", type=int, default=3000, help="spoilt ones of each kind of bytes")
    parser.add_argument("--examples", type=int, default=30, help="of each operation of the API")
    asked = parser.parse_args()
    print(f"seed {asked.seed}", flush=True)
    databases = Databases()
    databases.start()
    wrong: list[str] = []
    try:
        with tempfile.TemporaryDirectory() as name:
            service = RunningService(databases.fresh(), Path(name) / "data").start().prepare()
            try:
                for found in (read(Path(name), asked.rounds, asked.seed), send(service, asked.rounds, asked.seed)):
                    print(*(f"{count:7} {what}" for what, count in sorted(found.answers.items())), sep="\n", flush=True)
                    wrong += found.wrong
                fill(service)
                for configuration in (WHAT_IS_THERE, ANYTHING):
                    done = put(service, configuration, asked.examples, asked.seed)
                    print(done.stdout[-6000:], flush=True)
                    wrong += [f"the document: {configuration.name}"] if done.returncode else []
            finally:
                service.stop()
    finally:
        databases.stop()
    print(*wrong, sep="\n")
    raise SystemExit(bool(wrong))


if __name__ == "__main__":
    main()
