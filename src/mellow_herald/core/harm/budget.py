"""What a plan says about harm: the most devices that its release may hurt, and how surely."""

from dataclasses import dataclass

from mellow_herald.core.refusal import Refused

# By default a wave holds at most so many times the budget: that bounds what a release can do that gets worse meanwhile.
WIDEST = 10


@dataclass(frozen=True, slots=True)
class HarmBudget:
    """At most ``at_most`` devices may be hurt: for ``sure``, or with ``certainty`` (0–1). Where devices fail together,
    by what they have in common (``cluster_by``, a fact), waves count clusters, with at most ``of_a_cluster`` devices of
    each. ``widest`` is the most devices that any wave may hold; None for ten times the budget."""

    at_most: int
    certainty: float = 0.95
    sure: bool = False
    cluster_by: str | None = None
    of_a_cluster: int = 1
    widest: int | None = None

    def check(self) -> None:
        """Raises ``Refused`` if the values do not go together."""
        if self.of_a_cluster > self.at_most:
            raise Refused(
                "bad-plan",
                f"harm.of_a_cluster: {self.of_a_cluster} devices of one cluster are more than harm.at_most allows "
                f"({self.at_most}), so none would ever be given leave.",
                "Take fewer of a cluster at a time, or allow more harm.",
            )

    @property
    def delta_rate(self) -> float:
        """The chance (δ₁) that the failure rate is higher than it is taken to be."""
        return (1 - self.certainty) / 2

    @property
    def delta_chance(self) -> float:
        """The chance (δ₂) that more devices of a wave fail than their rate makes likely, over all waves."""
        return (1 - self.certainty) / 2

    @property
    def wave_at_most(self) -> int:
        """The most devices of a wave."""
        return WIDEST * self.at_most if self.widest is None else self.widest
