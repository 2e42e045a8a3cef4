"""One measured figure."""

from dataclasses import asdict, dataclass, field
from typing import Any


@dataclass(frozen=True, slots=True)
class Figure:
    """``value`` is the ratio; ``target`` (with its sign) what it should be, None where there is none yet."""

    name: str
    value: float
    target: str | None = None
    measured: dict[str, float] = field(default_factory=dict)

    def line(self) -> str:
        """As it is printed."""
        measured = ", ".join(f"{name} {value:,.0f}" for name, value in self.measured.items())
        return f"{self.name}: {self.value:.2f} ({self.target or 'no target yet'})   [{measured}]"

    def as_json(self) -> dict[str, Any]:
        """As it is kept."""
        return asdict(self)
