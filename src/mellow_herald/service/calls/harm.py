"""What the harm budgets of rollouts still allow, while one transaction hands out orders."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import Attempt, WaitingFor
from mellow_herald.core.harm.waves import Given, Value
from mellow_herald.core.order import Missing
from mellow_herald.core.plan import Plan
from mellow_herald.store import harm
from mellow_herald.store.brakes import fact_key
from mellow_herald.store.gate import Lock, take
from mellow_herald.store.rings import NO_VALUE
from mellow_herald.store.rows import StoredAttempt


@dataclass(slots=True)
class Allowed:
    """What one rollout's budget allows; ``facts`` are those that are watched."""

    given: Given
    facts: Sequence[str]

    def missing(self, row: StoredAttempt, attempt: Attempt) -> Missing:
        """What a device waits for because of the budget. Who was given leave in a wave is of it for good."""
        if attempt.at_risk or (row["wave"] is not None and not self.given.budget.sure):
            return None
        if self.given.budget.sure and attempt.harmed_at is not None:
            return None  # it has used what it can use
        return None if self.given.may_be(self._values(row), self._cluster(row)) else (WaitingFor.HARM_BUDGET, None)

    def note(self, row: StoredAttempt, before: Attempt, after: Attempt) -> None:
        """Counts an attempt that moved, and writes down of which wave it is."""
        if self.given.budget.sure:
            self.given.left += _uses(before) - _uses(after)
        elif after.exposed and row["wave"] is None and self.given.wave is not None:
            row["wave"] = self.given.wave.number
            self.given.note(self._values(row), self._cluster(row))

    def _values(self, row: StoredAttempt) -> list[Value]:
        return [(name, row["facts"].get(fact_key(name)) or NO_VALUE) for name in self.facts]

    def _cluster(self, row: StoredAttempt) -> str | None:
        return harm.cluster_of(row["facts"], row["id"], self.given.budget.cluster_by)


def _uses(attempt: Attempt) -> bool:
    """Whether a device counts against a sure budget."""
    return attempt.harmed_at is not None or attempt.at_risk


async def take_harm(
    connection: AsyncConnection, plans: Mapping[int, Plan], watched: Mapping[int, Sequence[str]]
) -> dict[int, Allowed]:
    """What the budgets of these rollouts allow, true until the transaction ends; taken as the pace is."""
    found = {}
    for rollout_id in sorted(one for one, plan in plans.items() if plan.harm is not None):
        budget, facts = plans[rollout_id].harm, watched[rollout_id]
        assert budget is not None
        await take(connection, Lock.PACE, rollout_id)
        if budget.sure:
            used = (await harm.count_at_worst(connection, [rollout_id])).get(rollout_id, 0)
            found[rollout_id] = Allowed(Given(budget, None, budget.at_most - used), facts)
            continue
        wave = await harm.last_wave(connection, rollout_id)
        given = Given(budget, wave, 0 if wave is None else wave.size, budget.wave_at_most)
        if wave is not None:
            for some in await harm.in_wave(connection, rollout_id, wave.number, facts, budget.cluster_by):
                given.note(list(zip(facts, some.values, strict=True)), some.cluster, some.devices)
        found[rollout_id] = Allowed(given, facts)
    return found
