"""Every call about two releases compared."""

from mellow_herald.client.calls import API, Call, get, post
from mellow_herald.wire.comparison import ChooseIn, ComparisonOut
from mellow_herald.wire.rollout import RolloutOut


def compare_releases(rollout_id: int) -> Call[ComparisonOut]:
    """Both releases side by side."""
    path = f"{API}/rollouts/{rollout_id}/comparison"
    return get(f"comparing the releases of rollout {rollout_id}", path, ComparisonOut)


def choose_release(rollout_id: int, request: ChooseIn) -> Call[RolloutOut]:
    """Chooses one for the rest."""
    path = f"{API}/rollouts/{rollout_id}/choose"
    return post(f"choosing a release in rollout {rollout_id}", path, RolloutOut, request)
