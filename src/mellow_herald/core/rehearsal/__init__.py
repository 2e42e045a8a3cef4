"""A plan played on a model of the fleet before anybody is hurt."""

from mellow_herald.core.rehearsal.answers import Answer, Fan, RingAnswer, Spread
from mellow_herald.core.rehearsal.faults import Fault, parse_fault
from mellow_herald.core.rehearsal.fleet import Column, Fleet, column_of
from mellow_herald.core.rehearsal.rehearse import Ask, Lever, Rehearsed, rehearse

__all__ = [
    "Answer",
    "Ask",
    "Column",
    "Fan",
    "Fault",
    "Fleet",
    "Lever",
    "Rehearsed",
    "RingAnswer",
    "Spread",
    "column_of",
    "parse_fault",
    "rehearse",
]
