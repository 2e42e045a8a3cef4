"""The harm budget: how many devices a rollout may hurt, and how it is held to that."""

from mellow_herald.core.harm.budget import HarmBudget
from mellow_herald.core.harm.forecast import good_waves
from mellow_herald.core.harm.rate import upper_rate
from mellow_herald.core.harm.waves import Counts, Given, HarmProgress, Wave, begin_wave, used_up, wave_due, wave_size

__all__ = [
    "Counts",
    "Given",
    "HarmBudget",
    "HarmProgress",
    "Wave",
    "begin_wave",
    "good_waves",
    "upper_rate",
    "used_up",
    "wave_due",
    "wave_size",
]
