"""The team from the terminal."""

import json
from pathlib import Path

import pytest

from tests.harness.service import PASSWORD, RunningService
from tests.harness.terminal import Terminal

OWN = "my-own-choice"


@pytest.fixture
def admin(service: RunningService, tmp_path: Path) -> Terminal:
    made = Terminal(service, tmp_path)
    made.good("sign-in", "--name", "admin", stdin=f"{PASSWORD}\n")
    return made


def test_somebody_comes_works_and_goes(admin: Terminal, service: RunningService, tmp_path: Path) -> None:
    said = admin.good("person", "add", "rowan", "--role", "operator", "--role", "publisher")
    assert said.startswith("rowan is in the team as operator, publisher.\nFirst password, shown this once: ")
    first = said.split()[-1]
    (tmp_path / "rowan").mkdir()
    rowan = Terminal(service, tmp_path / "rowan")
    rowan.environment["HERALD_PASSWORD"] = first
    assert "new" in rowan.run("sign-in", "--name", "rowan", stdin="short\n").stderr
    assert "Signed in" in rowan.good("sign-in", "--name", "rowan", stdin=f"{OWN}\n")
    assert rowan.good("whoami") == "rowan (operator, publisher)\n"
    assert "needs the role admin" in rowan.bad(1, "person", "list")
    assert "only one's own tokens" in rowan.bad(1, "token", "list", "--everybody")

    made = json.loads(rowan.good("token", "new", "pipeline", "--days", "7", "--json"))
    assert "pipeline" in rowan.good("token", "list")
    rowan.environment["HERALD_PASSWORD"] = OWN
    assert "is changed" in rowan.good("person", "password", "--new", "another-choice")
    assert "old password is wrong" in rowan.bad(1, "person", "password", "--new", "yet-another-one")

    assert "rowan is viewer now." in admin.good("person", "role", "rowan", "--role", "viewer")
    assert "'king' is none of viewer" in admin.bad(2, "person", "role", "rowan", "--role", "king")
    assert "this needs the role operator" in rowan.bad(1, "code", "new", "--board", "comb-s1", "--line", "hive-scale")
    listed = admin.good("token", "list", "--everybody")
    assert "rowan" in listed and "admin" in listed
    admin.good("token", "close", str(made["id"]))
    rowan.environment["HERALD_TOKEN"] = made["token"]
    assert "'pipeline' was closed" in rowan.bad(3, "device", "list")
    del rowan.environment["HERALD_TOKEN"]

    assert "shown this once" in admin.good("person", "password", "rowan")
    assert "first password" in rowan.bad(1, "device", "list")
    assert "rowan is let in no more" in admin.good("person", "close", "rowan", "--yes")
    rowan.bad(3, "device", "list")
    people = admin.good("person", "list")
    assert "closed" in people and "rowan" in people
    assert "last admin" in admin.bad(1, "person", "close", "admin", "--yes")
