"""What people have to say before a ring opens: a second person's yes, and a look at what was heard outside."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import StrEnum

from mellow_herald.core.refusal import Refused

EVERY = "all"


class Asks(StrEnum):
    """What a ring that waits for people asks for: that somebody chooses which of two releases it gets, lets it open,
    that another person approves, or that somebody looks at what was heard outside."""

    CHOICE = "choice"
    GO = "go"
    APPROVAL = "approval"
    EVIDENCE = "evidence"

    @property
    def awaited(self) -> str:
        """What is waited for, in words."""
        return {
            Asks.CHOICE: "a choice between the releases",
            Asks.GO: "go",
            Asks.APPROVAL: "an approval",
            Asks.EVIDENCE: "a look at outside evidence",
        }[self]


@dataclass(frozen=True, slots=True)
class ApprovalRule:
    """Which rings need a second person's yes: those named in ``rings`` (``all`` for every one), and those with more
    than the share ``share_above`` (0–1) of all planned devices; of somebody with the role ``by``, who (with
    ``not_the_starter``) neither started the rollout, wrote its plan nor published its release."""

    rings: tuple[str, ...] = ()
    share_above: float | None = None
    by: str = "operator"
    not_the_starter: bool = True

    def check(self, names: Sequence[str]) -> None:
        """Raises ``Refused`` if it names a ring that is not there, or none at all."""
        unknown = [name for name in self.rings if name not in (*names, EVERY)]
        if unknown:
            raise Refused(
                "bad-plan",
                f"approval.rings names {unknown[0]!r}, which is no ring of the plan.",
                f"Name {_listed(names)}.",
            )
        if not self.rings and self.share_above is None:
            raise Refused(
                "bad-plan",
                "[approval] says of no ring that it needs one.",
                'Write rings = ["all"], or share_above = 0.2.',
            )

    def wanted(self, names: Sequence[str], planned: Sequence[int]) -> frozenset[int]:
        """The positions of the rings that need one, with so many devices planned in each."""
        every = EVERY in self.rings and EVERY not in names
        most = float("inf") if self.share_above is None else self.share_above * sum(planned)
        return frozenset(
            position
            for position, (name, devices) in enumerate(zip(names, planned, strict=True))
            if every or name in self.rings or devices > most
        )

    @property
    def whose(self) -> str:
        """Whose yes it is, in words."""
        if not self.not_the_starter:
            return f"the approval of somebody with the role {self.by}"
        others = "who neither started it, wrote its plan nor published its release"
        return f"the approval of another person with the role {self.by}, {others}"


@dataclass(frozen=True, slots=True)
class EvidenceRule:
    """Kinds of outside evidence on which the rollout is held at once."""

    hold_on: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Say:
    """What people have said so far: the positions of the rings that need an approval (``wanted``) and that have one
    (``approved``), how many people could give one (``able``), how many pieces of outside evidence that name no
    device nobody has looked at (``unseen``), and the position of the ring for which nobody has yet chosen one of the
    two releases that are compared (``choice``; None where there is nothing to choose)."""

    wanted: frozenset[int] = field(default=frozenset())
    approved: frozenset[int] = field(default=frozenset())
    able: int = 1
    unseen: int = 0
    choice: int | None = None

    def still_asks(self, position: int, rule: ApprovalRule | None) -> tuple[Asks, str] | None:
        """What a ring still asks of people before anything else, and why; None if nothing. Which release it is comes
        first: who approves has to know."""
        if position == self.choice:
            return Asks.CHOICE, "nobody has chosen yet which of the two releases that are compared the rest gets"
        lacks = rule is not None and position in self.wanted - self.approved
        heard = f"{self.unseen} piece{'s' if self.unseen != 1 else ''} of outside evidence that nobody has acknowledged"
        if lacks and rule is not None:
            wants = f"the plan wants {rule.whose}"
            return Asks.APPROVAL, f"{wants}; and there {_are(self.unseen)} {heard}" if self.unseen else wants
        return (Asks.EVIDENCE, f"there {_are(self.unseen)} {heard}") if self.unseen else None

    def stuck(self, position: int, rule: ApprovalRule | None) -> str | None:
        """Why nobody can give the approval that a ring needs; None if somebody can, or it needs none."""
        if rule is None or position not in self.wanted - self.approved or self.able or position == self.choice:
            return None
        return (
            f"it needs {rule.whose}; nobody is left who may give it: give somebody the role {rule.by} "
            "(herald person roles), or cancel it and start it with another plan"
        )


def _are(count: int) -> str:
    return "is" if count == 1 else "are"


def _listed(names: Sequence[str]) -> str:
    return ", ".join(repr(name) for name in names) + f", or {EVERY!r} for every ring"
