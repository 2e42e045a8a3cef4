"""What is on record of devices that speak CoAP, and the secrets they share with the service."""

import secrets
from datetime import datetime

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import State
from mellow_herald.core.coap.objects import SECRET_BYTES, SERVICE_ID, USUAL_LIFETIME_S, sender_id
from mellow_herald.core.coap.update_object import in_words
from mellow_herald.service.context import Context
from mellow_herald.service.key_box import KeyBox
from mellow_herald.service.problems import ProblemError
from mellow_herald.store import coap, fleet
from mellow_herald.store.coap import ShownCoapDevice
from mellow_herald.store.feed import FeedEvent, JournalEntry, publish, write_journal
from mellow_herald.wire.coap import CoapDeviceOut, CoapSecret, CoapServiceOut, SecretIn
from mellow_herald.wire.device import OscoreOut
from mellow_herald.wire.model import Page

AWAY_STATES = frozenset({State.INSTALLING.value, State.PROVING.value})


def about(device_id: int) -> str:
    """What a device's secret is sealed for."""
    return f"oscore secret of device {device_id}"


async def secret_at_enrolment(context: Context, connection: AsyncConnection, device_id: int) -> OscoreOut:
    """The secret for a device that enrols and speaks CoAP: the same as long as nobody has used it, so that a lost
    answer locks nobody out."""
    box = KeyBox(context.settings.data_dir)
    row = await coap.find_coap(connection, device_id=device_id)
    if row is not None and row["secret"] is not None and row["proved_at"] is None:
        return _shared(device_id, box.unseal(row["secret"], about(device_id)))
    now = context.clock.now()
    await coap.mark_coap(connection, device_id, USUAL_LIFETIME_S, now)
    return _shared(device_id, await _renew(connection, box, device_id, now))


async def renew_secret(context: Context, serial: str, asked: SecretIn, by: str) -> CoapSecret:
    """Gives a device a new secret, which is shown this once; the former one ends."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        device = await fleet.find_device(connection, serial, lock=True)
        if device is None:
            raise ProblemError(404, "not-found", f"There is no device {serial!r}. See `herald device list`.")
        if device["radio"] is not None:
            detail = f"{serial} is on narrow radio: it does not speak CoAP."
            raise ProblemError(409, "on-radio", detail)
        secret = await _renew(connection, KeyBox(context.settings.data_dir), device["id"], now)
        await write_journal(connection, JournalEntry(now, by, "CoAP secret renewed", serial, asked.reason))
        await publish(connection, [FeedEvent(now, "device", device_id=device["id"], data={"serial": serial})])
    return CoapSecret(serial=serial, **_shared(device["id"], secret).model_dump())


async def _renew(connection: AsyncConnection, box: KeyBox, device_id: int, now: datetime) -> bytes:
    secret = secrets.token_bytes(SECRET_BYTES)
    sealed = box.seal(secret, about(device_id))
    # With other keys sequence numbers might begin anew; that they never fall is simpler to be sure of.
    await coap.put_coap(connection, device_id, secret=sealed, secret_at=now, proved_at=None, **coap.NOBODY)
    return secret


def _shared(device_id: int, secret: bytes) -> OscoreOut:
    return OscoreOut(secret=secret.hex(), sender_id=sender_id(device_id).hex(), recipient_id=SERVICE_ID.hex())


async def list_devices(context: Context, after: str | None, limit: int) -> Page[CoapDeviceOut]:
    """Devices that speak CoAP, by serial."""
    async with context.engine.connect() as connection:
        rows = await coap.list_coap(connection, after=after, limit=limit + 1)
        total = None if after else (await coap.count_coap(connection))[0]
        attempts = {row["device_id"]: await coap.current_attempt(connection, row["device_id"]) for row in rows[:limit]}
    items = [_show(row, attempts[row["device_id"]]) for row in rows[:limit]]
    return Page(items=items, next=items[-1].serial if len(rows) > limit else None, total=total)


async def show_device(context: Context, serial: str) -> CoapDeviceOut:
    """What is on record of one device that speaks CoAP."""
    async with context.engine.connect() as connection:
        row = None if "\0" in serial else await coap.find_coap(connection, serial=serial)
        attempt = None if row is None else await coap.current_attempt(connection, row["device_id"])
    if row is None:
        detail = f"{serial} does not speak CoAP. `herald coap list` shows those that do."
        raise ProblemError(404, "not-found", detail)
    return _show(row, attempt)


def _show(row: ShownCoapDevice, attempt: coap.CoapAttempt | None) -> CoapDeviceOut:
    ours = attempt is not None and (attempt["id"], attempt["try_number"]) == (row["attempt_id"], row["try_number"])
    restarting = ours and attempt is not None and attempt["state"] in AWAY_STATES
    state_word, result_word = in_words(row["state"], row["result"])
    return CoapDeviceOut.model_validate(
        {
            **row,
            "has_secret": row["secret"] is not None,
            "registered": row["location"] is not None,
            "state_word": state_word,
            "result_word": result_word,
            "restarting": restarting,
        }
    )


async def show_service(context: Context) -> CoapServiceOut:
    """Whether CoAP is served, where, and for how many devices."""
    async with context.engine.connect() as connection:
        devices, registered = await coap.count_coap(connection)
    settings = context.settings
    return CoapServiceOut(port=settings.coap_port, open=settings.coap_open, devices=devices, registered=registered)
