"""How long a good release takes under a harm budget."""

from collections.abc import Sequence

from mellow_herald.core.harm.budget import HarmBudget
from mellow_herald.core.harm.waves import Counts, HarmProgress, Wave, wave_due


def good_waves(budget: HarmBudget, rings: Sequence[int]) -> list[int]:
    """In how many waves each ring of so many devices gets a release that hurts nobody; all of a ring are decided before
    the next opens. Clusters are taken to be as large as a wave may take of them; for a *sure* budget a wave is as many
    as may be at risk together."""
    found: list[int] = []
    given = beyond = 0
    wave: Wave | None = None
    for devices in rings:
        if budget.sure:
            found.append(-(-devices // budget.at_most))
            continue
        begun, left = 0, devices
        while left > 0:
            seen = Counts(-(-given // budget.of_a_cluster))
            last = Counts(wave.size) if wave else Counts()
            wave = wave_due(budget, HarmProgress(Counts(given), seen, wave=wave, in_wave=last, beyond=beyond))
            assert wave is not None, "a good release has all of its budget left"
            taken = min(left, wave.size * budget.of_a_cluster, budget.wave_at_most)
            given, left, begun, beyond = given + taken, left - taken, begun + 1, beyond + wave.beyond_room
        found.append(begun)
    return found
