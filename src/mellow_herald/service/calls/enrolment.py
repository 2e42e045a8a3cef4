"""Letting devices in: enrolment codes and first calls."""

import hashlib
import secrets
from collections.abc import Mapping
from typing import Any

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.duration import parse_duration
from mellow_herald.service.context import Context
from mellow_herald.service.fleet.admission import note_admission
from mellow_herald.service.fleet.coap import secret_at_enrolment
from mellow_herald.service.fleet.radio import record_at_enrolment
from mellow_herald.service.people.callers import secret_hash
from mellow_herald.service.problems import ProblemError
from mellow_herald.store import boards, fleet
from mellow_herald.store.admission import change_devices
from mellow_herald.store.feed import FeedEvent, JournalEntry, publish, write_journal
from mellow_herald.wire.device import EnrolmentIn, EnrolmentOut, OscoreOut, StandingFacts
from mellow_herald.wire.fleet import CodeIn, CodeOut


async def make_code(context: Context, asked: CodeIn, by: str) -> CodeOut:
    """Makes an enrolment code; it is shown this once."""
    code = "-".join(secrets.token_hex(3) for _ in range(4))
    now = context.clock.now()
    async with context.engine.begin() as connection:
        await _check_board(connection, asked.board, asked.line)
        row = await fleet.add_code(
            connection,
            {
                "code_hash": secret_hash(code),
                "board": asked.board,
                "line": asked.line,
                "labels": asked.labels,
                "ask": asked.ask,
                "uses": asked.uses,
                "used": 0,
                "created_at": now,
                "expires_at": now + parse_duration(asked.valid_for),
            },
        )
        subject = f"code {row['id']}"
        why = f"devices of {asked.board}/{asked.line} are to enrol"
        await write_journal(connection, JournalEntry(now, by, "enrolment code made", subject, why))
    return CodeOut.model_validate({**row, "code": code})


async def _check_board(connection: AsyncConnection, board: str, line: str) -> None:
    row = await boards.find_board(connection, board)
    if row is None:
        raise ProblemError(422, "unknown-board", f"There is no board {board!r}. Add it with `herald board add FILE`.")
    if line not in row["lines"]:
        raise ProblemError(422, "unknown-line", f"Board {board} serves {', '.join(row['lines'])}, not {line}.")


async def _check_revision(connection: AsyncConnection, asked: EnrolmentIn) -> None:
    """No release would ever be for a revision that the board does not have: better told on the first day."""
    row = await boards.find_board(connection, asked.board)
    if row is not None and asked.hw_rev not in row["hw_revs"]:
        known = ", ".join(str(one) for one in row["hw_revs"])
        raise ProblemError(
            422,
            "unknown-revision",
            f"Board {asked.board} has the hardware revisions {known}, not {asked.hw_rev}. If there is a new one, add "
            "it to the board's file (`herald board add FILE`) and enrol again; the same code and nonce are good.",
        )


async def enrol(context: Context, asked: EnrolmentIn) -> EnrolmentOut:
    """A device's first call.

    The same nonce gives the same token until the token is first used, so that a lost answer locks nobody out; a
    known serial with another nonce is refused.
    """
    now = context.clock.now()
    nonce_hash = hashlib.sha256(asked.nonce.encode()).hexdigest()
    async with context.engine.begin() as connection:
        code = await fleet.find_code(connection, secret_hash(asked.code))
        if code is None or code["expires_at"] <= now:
            raise ProblemError(403, "bad-code", "The enrolment code is unknown or has expired. Ask for a new one.")
        if (code["board"], code["line"]) != (asked.board, asked.line):
            raise ProblemError(403, "bad-code", f"The enrolment code is not for {asked.board}/{asked.line}.")
        enrolled = await fleet.find_device(connection, asked.serial, lock=True)
        again = enrolled is not None and enrolled["may_enrol_again"]
        if enrolled is not None and not again:
            if enrolled["nonce_hash"] != nonce_hash or enrolled["token_used"]:
                raise ProblemError(
                    409,
                    "already-enrolled",
                    f"{asked.serial} is enrolled. If it lost its token, an engineer must allow it to enrol again "
                    "(`herald device allow-enrolment`).",
                )
            oscore = await secret_at_enrolment(context, connection, enrolled["id"]) if asked.coap else None
            return _answer(context, asked, enrolled, oscore)
        await _check_revision(connection, asked)
        if not await fleet.use_code(connection, code["id"]):
            raise ProblemError(403, "code-used-up", f"The enrolment code was good for {code['uses']} devices.")
        admission = "asking" if code["ask"] else "admitted"
        values = {
            "board": asked.board,
            "line": asked.line,
            "hw_rev": asked.hw_rev,
            "admission": admission,
            "nonce_hash": nonce_hash,
            "token_used": False,
            "may_enrol_again": False,
            "changed_at": now,
            "arriving": admission == "admitted",
            "cloned_at": None,
        }
        if asked.gateway is not None:
            values["gateway"] = asked.gateway
        first = context.memory.first_generation
        generation = first if enrolled is None else max(first, enrolled["generation"] + 1)
        if enrolled is not None:
            # What engineers wrote on it stays; its old token ends with the generation.
            labels = {**enrolled["labels"], **code["labels"]}
            await change_devices(connection, [enrolled["id"]], **values, labels=labels, generation=generation)
            # Its boots are counted anew.
            await fleet.forget_pulse(connection, enrolled["id"])
            await fleet.forget_reports(connection, enrolled["id"])
            device_id: int | None = enrolled["id"]
        else:
            # What the engineer put on the code wins over what a device says of itself.
            labels = {**asked.labels, **code["labels"]}
            new = {
                "serial": asked.serial,
                "generation": generation,
                "running": {},
                "standby": {},
                "version_keys": {},
                "note": "",
                "enrolled_at": now,
                "labels": labels,
            }
            device_id = await fleet.add_device(connection, {**values, **new})
        if device_id is None:
            raise ProblemError(409, "already-enrolled", f"{asked.serial} is enrolling at this moment; try again.")
        if asked.radio is not None:
            await record_at_enrolment(context, connection, device_id, asked.radio)
        oscore = await secret_at_enrolment(context, connection, device_id) if asked.coap else None
        data = {"serial": asked.serial, "admission": admission, "generation": generation}
        await publish(connection, [FeedEvent(now, "admission", None, device_id, data=data)])
        what = "enrolled again" if again else "enrolled"
        why = "a person must admit it" if code["ask"] else "its code admits"
        await write_journal(connection, JournalEntry(now, "device", what, asked.serial, why))
    note_admission(context, device_id, admission, generation)
    gateway = asked.gateway or (enrolled["gateway"] if enrolled is not None else None)
    facts = {"serial": asked.serial, "labels": labels, "gateway": gateway, "id": device_id, "generation": generation}
    return _answer(context, asked, {**values, **facts}, oscore)


def _answer(context: Context, asked: EnrolmentIn, device: Mapping[str, Any], oscore: OscoreOut | None) -> EnrolmentOut:
    stands = StandingFacts.model_validate({name: device[name] for name in StandingFacts.model_fields})
    said = {name: getattr(asked, name) for name in ("board", "line", "hw_rev", "gateway")}
    not_taken = [name for name, value in said.items() if value not in (None, getattr(stands, name))]
    not_taken += [f"labels.{name}" for name, value in asked.labels.items() if stands.labels.get(name) != value]
    return EnrolmentOut(
        device_id=device["id"],
        token=context.memory.issue(device["id"], device["generation"]),
        oscore=oscore,
        admission=device["admission"],
        stands=stands,
        not_taken=not_taken,
    )
