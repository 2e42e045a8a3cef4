"""Which device reaches the network through which: a forest of gateways, and what it cuts off when one restarts."""

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True)
class Topology:
    """``gateways`` has the gateway of each device that has one, by serial; a gateway need not be known itself."""

    gateways: Mapping[str, str]
    _children: dict[str, list[str]] = field(default_factory=dict, init=False, repr=False)

    def __post_init__(self) -> None:
        for serial in sorted(self.gateways):
            self._children.setdefault(self.gateways[serial], []).append(serial)

    def children(self, serial: str) -> list[str]:
        """Those right behind a device, by serial."""
        return list(self._children.get(serial, ()))

    def behind(self, serial: str) -> list[str]:
        """All that reach the network through a device, those right behind it first."""
        found: list[str] = []
        seen, waiting = {serial}, [serial]
        while waiting:
            for child in self._children.get(waiting.pop(0), ()):
                if child not in seen:
                    seen.add(child)
                    found.append(child)
                    waiting.append(child)
        return found

    def before(self, serial: str) -> list[str]:
        """The gateways between a device and the network, its own first."""
        found: list[str] = []
        at = self.gateways.get(serial)
        while at is not None and at not in found and at != serial:
            found.append(at)
            at = self.gateways.get(at)
        return found

    def roots(self) -> list[str]:
        """The gateways that have none themselves."""
        return sorted(one for one in self._children if one not in self.gateways)

    def circles(self) -> list[list[str]]:
        """Gateways that are behind each other, each circle once and beginning with its first serial."""
        found: dict[str, list[str]] = {}
        done: set[str] = set()
        for start in sorted(self.gateways):
            path: list[str] = []
            at: str | None = start
            while at is not None and at not in done and at not in path:
                path.append(at)
                at = self.gateways.get(at)
            if at is not None and at in path:
                circle = path[path.index(at) :]
                first = circle.index(min(circle))
                found[min(circle)] = circle[first:] + circle[:first]
            done |= set(path)
        return [found[name] for name in sorted(found)]


def waves(topology: Topology, members: Iterable[str]) -> list[list[str]]:
    """Members in the order in which they can be switched so that nobody is cut off who is not done yet: those with no
    other member behind them first, then the gateways of those alone, and so on."""
    left = set(members)
    height: dict[str, int] = {}

    def height_of(serial: str) -> int:
        # From the leaves up, without recursion: a chain of gateways may be long.
        waiting = [serial]
        while waiting:
            one = waiting[-1]
            deeper = [child for child in topology.children(one) if child not in height]
            if deeper:
                waiting += deeper
                continue
            below = max((height[child] for child in topology.children(one)), default=0)
            height[one] = below + (one in left)
            waiting.pop()
        return height[serial]

    groups: dict[int, list[str]] = {}
    for serial in sorted(left):
        groups.setdefault(height_of(serial), []).append(serial)
    return [groups[level] for level in sorted(groups)]


@dataclass(frozen=True, slots=True)
class CutOff:
    """The restart of a gateway and whom it cuts off: ``outside`` are those behind it that the rollout does not touch,
    ``inside`` how many it does; ``seconds`` is for how long, as its last restarts show (None: not known)."""

    gateway: str
    outside: tuple[str, ...]
    inside: int
    seconds: float | None


def cut_off(
    topology: Topology, gateways: Iterable[str], members: frozenset[str], seconds: Mapping[str, float]
) -> Iterator[CutOff]:
    """What the restarts of these devices do to those behind them; nothing for a device with nobody behind it."""
    for gateway in gateways:
        behind = topology.behind(gateway)
        if behind:
            outside = tuple(one for one in behind if one not in members)
            yield CutOff(gateway, outside, len(behind) - len(outside), seconds.get(gateway))
