"""What can go wrong in a call: typed errors that say what was being done."""

import json

import httpx

from mellow_herald.wire.event import Health
from mellow_herald.wire.problem import TYPE_PREFIX, Problem


class HeraldError(Exception):
    """Base of the client's errors. ``doing`` says what was tried."""

    def __init__(self, message: str, doing: str) -> None:
        super().__init__(f"{doing}: {message}")
        self.doing = doing


class UnreachableError(HeraldError):
    """The service could not be reached, or the connection broke."""


class WaitedTooLongError(HeraldError):
    """What was waited for has not come to pass in the time that the caller gave."""


class ProblemError(HeraldError):
    """The service answered with a problem (RFC 9457)."""

    def __init__(self, problem: Problem, doing: str) -> None:
        super().__init__(problem.detail, doing)
        self.problem = problem
        self.checks = problem.checks


class NotSignedInError(ProblemError):
    """The token is missing, unknown or has expired."""


def error_for(response: httpx.Response, doing: str) -> ProblemError:
    """The error behind a response that is not a success; its body must have been read."""
    try:
        problem = Problem.model_validate(json.loads(response.content))
    except ValueError:
        problem = Problem(
            type=f"{TYPE_PREFIX}no-problem",
            title=response.reason_phrase,
            status=response.status_code,
            detail=_why(response),
        )
    return (NotSignedInError if response.status_code == 401 else ProblemError)(problem, doing)


def _why(response: httpx.Response) -> str:
    """What an answer without a problem tells: of one that is not ready, what is amiss."""
    try:
        amiss = Health.model_validate(json.loads(response.content)).checks
    except ValueError:
        return f"The service answered {response.status_code} without saying why."
    return "It is not ready: " + "; ".join(f"{name} {what}" for name, what in amiss.items()) + "."


def unreachable(url: httpx.URL, error: httpx.TransportError, doing: str) -> UnreachableError:
    """The error behind a connection that could not be made, or broke."""
    return UnreachableError(f"the service at {url} cannot be reached ({error}). Does `herald serve` run there?", doing)
