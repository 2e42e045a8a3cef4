"""Reading what devices report: one word that cannot be read does not keep the others of its call back."""

from dataclasses import dataclass, field
from typing import Any, Self

from pydantic import ValidationError
from pydantic_core import from_json, to_json

from mellow_herald.service.problems import describe_validation
from mellow_herald.wire.device import MOST_REPORTS, RefusedReport, ReportIn, ReportsIn


@dataclass(frozen=True, slots=True)
class Reported:
    """A call's reports with their places in it, and those that could not be read."""

    reports: list[tuple[int, ReportIn]]
    refused: list[RefusedReport] = field(default_factory=list)

    @classmethod
    def of(cls, *reports: ReportIn) -> Self:
        """Reports that were read already."""
        return cls(list(enumerate(reports)))


def read_reports(body: bytes) -> Reported:
    """The reports in a call's body. Raises ``ValidationError`` where it is no call of 1 to 100 reports at all."""
    try:
        return Reported.of(*ReportsIn.model_validate_json(body).reports)
    except ValidationError:
        told = _each(body)
        if told is None:
            raise
    reported = Reported([])
    for place, one in enumerate(told):
        try:
            reported.reports.append((place, ReportIn.model_validate_json(to_json(one, inf_nan_mode="constants"))))
        except ValidationError as error:
            detail = describe_validation(list(error.errors()))
            reported.refused.append(refused(place, one if isinstance(one, dict) else {}, "bad-values", detail))
    return reported


def refused(place: int, told: dict[str, Any], kind: str, detail: str) -> RefusedReport:
    """The word on a report that was not taken."""
    boots, seq = told.get("boots"), told.get("seq")
    return RefusedReport(index=place, boots=_whole(boots), seq=_whole(seq), kind=kind, detail=detail)


def _each(body: bytes) -> list[Any] | None:
    try:
        told = from_json(body)
    except ValueError:
        return None
    each = told.get("reports") if isinstance(told, dict) else None
    return each if isinstance(each, list) and 0 < len(each) <= MOST_REPORTS else None


def _whole(number: Any) -> int | None:
    return number if type(number) is int else None
