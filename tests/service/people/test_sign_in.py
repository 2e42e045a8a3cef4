"""The door under attack: who guesses is slowed down, who is at home gets in."""

import time
from concurrent.futures import ThreadPoolExecutor

import httpx
import pytest

from mellow_herald.core.pauses import Pauses
from mellow_herald.service.people import sign_in
from tests.harness.service import PASSWORD, RunningService

SESSION = "/api/v1/session"


def try_from(service: RunningService, address: str, name: str, password: str, **headers: str) -> httpx.Response:
    """A sign-in from one of this machine's loopback addresses."""
    with httpx.Client(transport=httpx.HTTPTransport(local_address=address), base_url=service.url, timeout=60) as http:
        return http.post(SESSION, json={"name": name, "password": password}, headers=headers)


def test_after_five_failures_each_is_followed_by_a_pause(service: RunningService) -> None:
    service.door._pauses = Pauses(first_s=40)
    answers = [try_from(service, "127.0.0.2", "admin", "wrong") for _ in range(6)]
    assert [answer.status_code for answer in answers] == [401] * 5 + [429]
    wait = int(answers[-1].headers["retry-after"])
    assert 30 < wait <= 40 and f"try again in {wait} s" in answers[-1].json()["detail"]
    assert try_from(service, "127.0.0.3", "admin", PASSWORD).status_code == 429, "the account, from where nobody knows"
    assert try_from(service, "127.0.0.2", "somebody", "wrong").status_code == 429, "the address, whatever the name"
    assert try_from(service, "127.0.0.1", "admin", PASSWORD).status_code == 200, "from where admin signed in before"


def test_a_forged_header_walks_around_no_limit(service: RunningService) -> None:
    service.door._pauses = Pauses(first_s=40)
    answers = [
        try_from(service, "127.0.0.2", f"person{n}", "wrong", **{"x-forwarded-for": f"192.0.2.{n}"}) for n in range(7)
    ]
    assert [answer.status_code for answer in answers] == [401] * 5 + [429] * 2


def test_with_two_hundred_wrong_ones_at_once_a_right_one_gets_in_within_a_second(
    service: RunningService, monkeypatch: pytest.MonkeyPatch
) -> None:
    from argon2 import PasswordHasher

    from mellow_herald.service.people import passwords

    # As strong as in earnest.
    monkeypatch.setattr(passwords, "HASHER", PasswordHasher())
    assert try_from(service, "127.0.0.1", "admin", PASSWORD).status_code == 200

    def wrong(number: int) -> int:
        return try_from(service, f"127.0.1.{number % 100 + 1}", "admin", "wrong").status_code

    with ThreadPoolExecutor(32) as pool:
        attack = [pool.submit(wrong, number) for number in range(200)]
        time.sleep(0.2)
        began = time.monotonic()
        assert try_from(service, "127.0.0.1", "admin", PASSWORD).status_code == 200
        took = time.monotonic() - began
        answers = [one.result() for one in attack]
        lasted = time.monotonic() - began
    # A slow machine is longer at it, and what is let through is let through by time.
    assert set(answers) == {401, 429} and answers.count(401) <= 8 + lasted, "hardly any of them cost work"
    print(f"the right one took {took:.2f} s")


def test_failed_sign_ins_are_journalled_by_their_number(service: RunningService) -> None:
    for _ in range(7):
        try_from(service, "127.0.0.2", "admin", "wrong")
    for number in range(15):
        try_from(service, "127.0.0.3", f"guess{number}", "wrong")
    service.call(service.door.tell())
    entries = [one for one in service.herald.journal.list().items if one.what == "sign-ins failed"]
    assert len(entries) == sign_in.MOST_NAMED + 1
    by_subject = {one.subject: one for one in entries}
    assert by_subject["admin"].why == "7 wrong or refused within a minute, from 127.0.0.2"
    assert by_subject["admin"].data["tries"] == 7
    assert by_subject["6 more names"].data["tries"] == 6
    service.call(service.door.tell())
    assert len([one for one in service.herald.journal.list().items if one.what == "sign-ins failed"]) == len(entries)
