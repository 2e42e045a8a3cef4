"""Key lists: carried, never made here."""

import base64

from fastapi import APIRouter

from mellow_herald.core.keys import fingerprint, verify_key_list
from mellow_herald.core.refusal import Refused
from mellow_herald.service.api.parameters import Ctx
from mellow_herald.service.context import Context
from mellow_herald.service.people.callers import Admin, Anyone
from mellow_herald.service.problems import ProblemError, problems
from mellow_herald.service.rollouts.halting import halt_untrusted
from mellow_herald.store import keys as key_lists
from mellow_herald.store.feed import FeedEvent, JournalEntry, publish, write_journal
from mellow_herald.store.gate import Lock, take
from mellow_herald.wire.key import KeyListIn, KeyListOut, SigningKeyOut

router = APIRouter(tags=["keys"])


@router.post("/key_lists", status_code=201, responses=problems(409))
async def publish_key_list(asked: KeyListIn, who: Admin, context: Ctx) -> KeyListOut:
    """Publishes a key list. The first one brings its root with it; later ones must be signed by the same root.

    Running rollouts of what a revoked key signed, or one that is not on the list, are halted.
    """
    now = context.clock.now()
    async with context.engine.begin() as connection:
        await take(connection, Lock.KEYS)  # one at a time, so that numbers only rise
        known = await key_lists.newest_key_list(connection)
        root = bytes(asked.root) if known is None else known["root"]
        if root != bytes(asked.root):
            raise Refused(
                "unknown-root",
                f"the list comes with root {fingerprint(bytes(asked.root))}, in force is {fingerprint(root)}.",
                "Sign it with the root the fleet was made with.",
            )
        body = bytes(asked.key_list)
        keys = verify_key_list(body, root)
        if known is not None and keys.number <= known["number"]:
            if keys.number == known["number"] and body == known["body"]:
                return await _newest(context)
            raise Refused(
                "key-list-not-newer",
                f"key list {keys.number} is not newer than the one in force, {known['number']}.",
                f"Make it with number {known['number'] + 1} or higher.",
            )
        await key_lists.add_key_list(connection, keys.number, root, body, now)
        halted = await halt_untrusted(connection, context, keys, who.name)
        data = {key.fingerprint: key.status.value for key in keys.keys} | ({"halted": halted} if halted else {})
        await publish(connection, [FeedEvent(now, "keys", data={"number": keys.number})])
        why = f"signed by root {fingerprint(root)}"
        await write_journal(
            connection, JournalEntry(now, who.name, "key list published", f"key list {keys.number}", why, data)
        )
    context.signals.conductor.set()
    return await _newest(context)


@router.get("/key_lists/newest", responses=problems(404))
async def newest_key_list(who: Anyone, context: Ctx) -> KeyListOut:
    """The key list in force."""
    return await _newest(context)


async def _newest(context: Context) -> KeyListOut:
    async with context.engine.connect() as connection:
        row = await key_lists.newest_key_list(connection)
    if row is None:
        raise ProblemError(404, "not-found", "There is no key list yet. Publish one with `herald key publish`.")
    keys = verify_key_list(row["body"], row["root"])
    return KeyListOut(
        number=keys.number,
        root=fingerprint(row["root"]),
        keys=[SigningKeyOut(fingerprint=k.fingerprint, name=k.name, status=k.status) for k in keys.keys],
        published_at=row["published_at"],
        key_list=base64.b64encode(row["body"]).decode(),
    )
