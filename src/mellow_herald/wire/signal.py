"""Signals, as a board declares them."""

from typing import Annotated

from pydantic import Field, StringConstraints, model_validator

from mellow_herald.core.readings.signal import SignalKind
from mellow_herald.wire.model import Duration, Model, Name, Number

Unit = Annotated[str, StringConstraints(max_length=40, pattern=r"^[!-~]*$"), Field(examples=["Cel", "kg", "%"])]
Line = Annotated[str, StringConstraints(max_length=300, pattern=r"^[^\x00-\x1f\x7f]*$")]


class SignalIn(Model):
    """A signal of a board. ``unit`` is written as UCUM has it; ``usual`` is the range where its values mostly lie;
    ``bytes`` is what one value costs on the way; ``precise`` keeps 15 digits of it and not 7; ``keep`` is for how long
    each value is kept, if that is shorter than for the others."""

    name: Name
    kind: SignalKind = SignalKind.NUMBER
    unit: Unit = ""
    usual: Annotated[list[Number], Field(min_length=2, max_length=2)] | None = None
    description: Line = ""
    bytes: Annotated[int, Field(strict=True, ge=1, le=1000)] = 4
    precise: bool = False
    keep: Duration | None = None

    @model_validator(mode="after")
    def _fits_its_kind(self) -> "SignalIn":
        if self.kind is not SignalKind.NUMBER and (self.usual is not None or self.unit or self.precise):
            raise ValueError("unit, usual and precise go with numbers")
        if self.usual is not None and self.usual[0] >= self.usual[1]:
            raise ValueError("usual has the lower end first")
        return self
