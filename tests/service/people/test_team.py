"""The team: adding, roles, passwords, closing; and what becomes of whoever was let in."""

import threading
import time

import httpx
import pytest

from mellow_herald.client import Herald, ProblemError
from mellow_herald.wire.person import Role
from tests.harness.service import PASSWORD, RunningService
from tests.harness.team import add_person

OWN = "my-own-choice"


def signed_in(service: RunningService, name: str, password: str) -> Herald:
    """A client with a session."""
    herald = Herald(service.url)
    herald.people.sign_in(name, password)
    return herald


def test_a_first_password_opens_nothing_but_its_change(service: RunningService) -> None:
    made = service.herald.people.add("rowan", [Role.PUBLISHER, Role.OPERATOR])
    assert made.password and made.roles == ["operator", "publisher"] and made.must_change
    with signed_in(service, "rowan", made.password) as rowan:
        assert rowan.people.whoami().must_change
        for refused in (rowan.devices.list, rowan.people.tokens, rowan.people.make_token):
            with pytest.raises(ProblemError, match="first password"):
                refused()
        with pytest.raises(ProblemError, match="old password is wrong"):
            rowan.people.change_password("something else", OWN)
        with pytest.raises(Exception, match="at least 10"):
            rowan.people.change_password(made.password, "short")
        with pytest.raises(ProblemError, match="is the old one"):
            rowan.people.change_password(made.password, made.password)
        rowan.people.change_password(made.password, OWN)
        assert not rowan.people.whoami().must_change and rowan.devices.list().items == []
    listed = {one.name: one for one in service.herald.people.list()}
    assert listed["rowan"].signed_in_at and listed["rowan"].password is None
    done = [(one.what, one.who) for one in service.herald.journal.list().items if one.subject == "rowan"]
    assert done == [("password changed", "rowan"), ("person added", "admin")]


def test_each_role_adds_what_it_may(service: RunningService) -> None:
    service.publish("2.4.0").raise_for_status()
    with add_person(service, "rowan", Role.PUBLISHER, Role.OPERATOR) as http:
        assert http.post("/api/v1/codes", json={}).status_code == 422
        assert http.post("/api/v1/boards", json={}).status_code == 422
        assert http.get("/api/v1/people").status_code == 403
        service.herald.people.set_roles("rowan", ["viewer"])
        assert http.post("/api/v1/codes", json={}).status_code == 403, "from the next call on"
    (entry,) = [one for one in service.herald.journal.list().items if one.what == "roles changed"]
    assert entry.why == "operator and publisher, now viewer"


def test_the_last_admin_stays(service: RunningService) -> None:
    with pytest.raises(ProblemError, match="last admin and cannot be demoted"):
        service.herald.people.set_roles("admin", ["operator"])
    with pytest.raises(ProblemError, match="last admin and cannot be closed"):
        service.herald.people.close("admin")
    add_person(service, "rowan", Role.ADMIN).close()
    service.herald.people.set_roles("admin", ["admin", "operator"])
    service.herald.people.close("rowan")
    with pytest.raises(ProblemError, match="last admin"):
        service.herald.people.close("admin")
    with pytest.raises(ProblemError, match="was closed; the journal's name"):
        service.herald.people.add("rowan", ["viewer"])
    with pytest.raises(ProblemError, match="is there already"):
        service.herald.people.add("admin", ["viewer"])
    for refused in (service.herald.people.close, service.herald.people.reset_password):
        with pytest.raises(ProblemError, match="nobody 'rowan'"):
            refused("rowan")


def test_two_who_demote_each_other_leave_an_admin(service: RunningService) -> None:
    other = add_person(service, "rowan", Role.ADMIN)
    with service.http(service.token) as http:
        asked = [(http, "rowan"), (other, "admin")]
        answers: list[int] = []
        threads = [
            threading.Thread(
                target=lambda who=who, whom=whom: answers.append(
                    who.put(f"/api/v1/people/{whom}/roles", json={"roles": ["viewer"]}).status_code
                )
            )
            for who, whom in asked
        ]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
    other.close()
    assert 200 in answers and set(answers) <= {200, 403, 409} and answers.count(200) == 1


@pytest.mark.parametrize("how", ["closed", "demoted", "token closed"])
def test_whoever_may_no_longer_look_is_let_go_within_two_seconds(service: RunningService, how: str) -> None:
    with add_person(service, "rowan", Role.OPERATOR) as http:
        with http.stream("GET", "/api/v1/events", timeout=httpx.Timeout(10)) as stream:
            lines = stream.iter_lines()
            next(lines)
            if how == "closed":
                service.herald.people.close("rowan")
            elif how == "demoted":
                service.herald.people.set_roles("rowan", ["viewer"])
            else:
                (token,) = [one for one in service.herald.people.tokens(everybody=True) if one.person == "rowan"]
                service.herald.people.close_token(token.id)
            began = time.monotonic()
            for _ in lines:
                pass
            assert time.monotonic() - began < 4
        assert http.get("/api/v1/devices").status_code == (200 if how == "demoted" else 401)


def test_one_who_is_looked_at_again_and_may_stays(service: RunningService) -> None:
    with service.http(service.token) as http, http.stream("GET", "/api/v1/events", timeout=httpx.Timeout(10)) as stream:
        lines = stream.iter_lines()
        time.sleep(2.5)
        service.publish("2.4.0").raise_for_status()
        assert "event: release" in lines


def test_a_reset_ends_sessions_and_leaves_tokens(service: RunningService) -> None:
    by_token = add_person(service, "rowan", Role.VIEWER)
    with signed_in(service, "rowan", PASSWORD) as by_session:
        made = service.herald.people.reset_password("rowan")
        assert made.password
        with pytest.raises(ProblemError, match="was closed at"):
            by_session.devices.list()
    answer = by_token.get("/api/v1/devices")
    assert (answer.status_code, answer.json()["type"].rsplit(":", 1)[1]) == (403, "first-password")
    with signed_in(service, "rowan", made.password) as rowan:
        rowan.people.change_password(made.password, OWN)
    assert by_token.get("/api/v1/devices").status_code == 200
    by_token.close()


def test_one_closes_ones_own_tokens_and_an_admin_anybodys(service: RunningService) -> None:
    with add_person(service, "rowan", Role.OPERATOR) as http:
        (own,) = http.get("/api/v1/tokens").json()
        admins = [one.id for one in service.herald.people.tokens()]
        assert http.get("/api/v1/tokens?everybody=true").status_code == 403
        assert http.delete(f"/api/v1/tokens/{admins[0]}").status_code == 404
        service.herald.people.close_token(own["id"])
        assert http.get("/api/v1/tokens").status_code == 401
    (entry,) = [one for one in service.herald.journal.list().items if one.what == "token closed"]
    assert (entry.who, entry.why) == ("admin", "it was rowan's")
