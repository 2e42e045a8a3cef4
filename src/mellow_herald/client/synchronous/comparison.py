# Written by `make client` from ../asynchronous; change it there.
"""Two releases compared, by the synchronous client."""

from typing import TYPE_CHECKING

from mellow_herald.client import comparison_calls as calls
from mellow_herald.wire.comparison import ChooseIn, ComparisonOut
from mellow_herald.wire.rollout import RolloutOut

if TYPE_CHECKING:
    from mellow_herald.client.synchronous.herald import Herald


class Comparison:
    """The two releases that a rollout compares by lot."""

    def __init__(self, herald: "Herald") -> None:
        self._herald = herald

    def show(self, rollout_id: int) -> ComparisonOut:
        """Both side by side, and whether it is proven that they differ."""
        return self._herald.send(calls.compare_releases(rollout_id))

    def choose(self, rollout_id: int, arm: str, reason: str) -> RolloutOut:
        """Chooses the one (by its arm's name or its version) that everybody gets from now on."""
        return self._herald.send(calls.choose_release(rollout_id, ChooseIn(arm=arm, reason=reason)))
