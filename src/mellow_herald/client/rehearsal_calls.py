"""Every call about rehearsals."""

from mellow_herald.client.calls import API, Call, get, post
from mellow_herald.wire.model import Model
from mellow_herald.wire.rehearsal import RehearsalIn, RehearsalOut


class _Nothing(Model):
    """A body that says nothing."""


def rehearse(request: RehearsalIn) -> Call[RehearsalOut]:
    """Has a plan rehearsed."""
    return post(f"rehearsing {request.plan.name!r}", f"{API}/rehearsals", RehearsalOut, request)


def list_rehearsals() -> Call[list[RehearsalOut]]:
    """The newest rehearsals."""
    return get("listing rehearsals", f"{API}/rehearsals", list[RehearsalOut])


def list_rehearsals_of(rollout_id: int) -> Call[list[RehearsalOut]]:
    """Those of a rollout's plan."""
    path = f"{API}/rollouts/{rollout_id}/rehearsals"
    return get(f"listing the rehearsals of rollout {rollout_id}", path, list[RehearsalOut])


def show_rehearsal(rehearsal_id: int) -> Call[RehearsalOut]:
    """One rehearsal."""
    return get(f"showing rehearsal {rehearsal_id}", f"{API}/rehearsals/{rehearsal_id}", RehearsalOut)


def cancel_rehearsal(rehearsal_id: int) -> Call[RehearsalOut]:
    """Ends a rehearsal that is under way."""
    path = f"{API}/rehearsals/{rehearsal_id}/cancel"
    return post(f"cancelling rehearsal {rehearsal_id}", path, RehearsalOut, _Nothing())
