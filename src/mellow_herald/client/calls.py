"""Every call of the engineer's API, described once; the two clients only send them."""

import base64
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Generic, TypeVar

from pydantic import BaseModel, TypeAdapter

from mellow_herald.core.inventory import Format
from mellow_herald.core.verdict import Allowed
from mellow_herald.wire.board import BoardIn, BoardOut
from mellow_herald.wire.check import CheckAsk, CheckOut
from mellow_herald.wire.event import Event, Health, JournalCheck, JournalEntry, Overview, PresenceSample
from mellow_herald.wire.fleet import (
    CodeIn,
    CodeOut,
)
from mellow_herald.wire.key import KeyListIn, KeyListOut
from mellow_herald.wire.model import Page
from mellow_herald.wire.person import Me, PasswordChange, PersonIn, PersonOut, RolesIn, SignIn, TokenIn, TokenOut
from mellow_herald.wire.release import (
    ENVELOPE_MEDIA_TYPE,
    CleanIn,
    CleanOut,
    EnvelopeCheck,
    LineageOut,
    ManifestOut,
    ReleaseEdit,
    ReleaseOut,
    UnusedRelease,
    WithdrawalOut,
)
from mellow_herald.wire.rollout import ReasonIn
from mellow_herald.wire.selection import SelectionIn, SelectionOut

Result = TypeVar("Result")
Answer = TypeVar("Answer", covariant=True)
API = "/api/v1"


@dataclass(frozen=True, slots=True)
class Call(Generic[Answer]):
    """A request and how to read its answer. ``repeatable``: doing it twice is the same as doing it once."""

    doing: str
    method: str
    path: str
    read: Callable[[bytes], Answer]
    params: dict[str, Any] = field(default_factory=dict)
    body: bytes | None = None
    headers: dict[str, str] = field(default_factory=dict)
    repeatable: bool = False


def reader(kind: type[Result]) -> Callable[[bytes], Result]:
    """Reads an answer as a model, or a list of them."""
    return TypeAdapter(kind).validate_json


def get(doing: str, path: str, kind: type[Result], /, **params: Any) -> Call[Result]:
    """A call that only reads."""
    given = {name: value for name, value in params.items() if value is not None}
    return Call(doing, "GET", path, reader(kind), params=given, repeatable=True)


def post(
    doing: str,
    path: str,
    kind: type[Result],
    body: BaseModel,
    *,
    repeatable: bool = False,
    headers: dict[str, str] | None = None,
) -> Call[Result]:
    """A call that sends a model."""
    content = body.model_dump_json().encode()
    sent = {"content-type": "application/json", **(headers or {})}
    return Call(doing, "POST", path, reader(kind), body=content, headers=sent, repeatable=repeatable)


def _nothing(_: bytes) -> None:
    return None


def sign_in(request: SignIn) -> Call[Me]:
    """Opens a session; the cookie is kept by the client."""
    return post(f"signing in as {request.name}", f"{API}/session", Me, request)


def whoami() -> Call[Me]:
    """Who the token belongs to."""
    return get("asking who is signed in", f"{API}/session", Me)


def sign_out() -> Call[None]:
    """Ends the session, or closes the token, that the client uses."""
    path, console = f"{API}/session", {"herald-console": "1"}
    return Call("signing out", "DELETE", path, _nothing, headers=console, repeatable=True)


def make_token(asked: TokenIn) -> Call[TokenOut]:
    """Makes a token."""
    return post("making a token", f"{API}/tokens", TokenOut, asked, headers={"herald-console": "1"})


def list_tokens(everybody: bool) -> Call[list[TokenOut]]:
    """One's own tokens, or everybody's."""
    return get("listing tokens", f"{API}/tokens", list[TokenOut], everybody=everybody or None)


def close_token(token_id: int) -> Call[None]:
    """Closes a token."""
    return Call(f"closing token {token_id}", "DELETE", f"{API}/tokens/{token_id}", _nothing, repeatable=True)


def change_password(asked: PasswordChange) -> Call[None]:
    """Changes one's own password."""
    headers = {"content-type": "application/json", "herald-console": "1"}
    body = asked.model_dump_json().encode()
    path = f"{API}/session/password"
    return Call("changing the password", "PUT", path, _nothing, body=body, headers=headers)


def list_people() -> Call[list[PersonOut]]:
    """Everybody in the team."""
    return get("listing people", f"{API}/people", list[PersonOut])


def add_person(asked: PersonIn) -> Call[PersonOut]:
    """Adds somebody."""
    return post(f"adding {asked.name}", f"{API}/people", PersonOut, asked)


def set_roles(name: str, asked: RolesIn) -> Call[PersonOut]:
    """Gives somebody these roles."""
    headers, body = {"content-type": "application/json"}, asked.model_dump_json(exclude_unset=True).encode()
    path = f"{API}/people/{name}/roles"
    return Call(f"changing {name}'s roles", "PUT", path, reader(PersonOut), body=body, headers=headers, repeatable=True)


def reset_password(name: str) -> Call[PersonOut]:
    """Gives somebody a first password anew."""
    return Call(f"resetting {name}'s password", "POST", f"{API}/people/{name}/password", reader(PersonOut))


def close_person(name: str) -> Call[None]:
    """Lets somebody in no more."""
    return Call(f"closing {name}", "DELETE", f"{API}/people/{name}", _nothing)


def add_board(board: BoardIn) -> Call[BoardOut]:
    """Adds or replaces a board."""
    return post(f"adding board {board.name}", f"{API}/boards", BoardOut, board, repeatable=True)


def list_boards() -> Call[list[BoardOut]]:
    """All boards."""
    return get("listing boards", f"{API}/boards", list[BoardOut])


def show_board(name: str) -> Call[BoardOut]:
    """One board."""
    return get(f"reading board {name}", f"{API}/boards/{name}", BoardOut)


def publish_key_list(request: KeyListIn) -> Call[KeyListOut]:
    """Publishes a key list."""
    return post("publishing a key list", f"{API}/key_lists", KeyListOut, request, repeatable=True)


def key_list(root: bytes, signed: bytes) -> KeyListIn:
    """A key list as it is sent."""
    encoded = {"root": base64.b64encode(root), "key_list": base64.b64encode(signed)}
    return KeyListIn.model_validate(encoded)


def newest_key_list() -> Call[KeyListOut]:
    """The key list in force."""
    return get("reading the key list", f"{API}/key_lists/newest", KeyListOut)


def wishes(allowed: Allowed, **more: Any) -> dict[str, Any]:
    """What the engineer asks for in so many words, as query parameters."""
    asked = {
        "lower_version": allowed.lower_version,
        "cut_off_for_good": allowed.cut_off_for_good,
        "as_is": allowed.as_is,
    }
    more["keeps_secret"] = allowed.keeps_secret
    return {name: "true" for name, value in asked.items() if value} | {k: v for k, v in more.items() if v}


def publish_release(
    name: str,
    length: int,
    *,
    draft: bool = False,
    labels: Mapping[str, str] | None = None,
    allowed: Allowed = Allowed(),
) -> Call[ReleaseOut]:
    """Publishes a release file of ``length`` bytes; the body is given when the call is sent."""
    headers = {"content-type": ENVELOPE_MEDIA_TYPE, "content-length": str(length)}
    label = [f"{key}={value}" for key, value in (labels or {}).items()]
    params = wishes(allowed, draft="true" if draft else "", label=label)
    path = f"{API}/releases"
    return Call(f"publishing {name}", "POST", path, reader(ReleaseOut), params=params, headers=headers)


def check_envelope(name: str, envelope: bytes, allowed: Allowed) -> Call[EnvelopeCheck]:
    """What publishing would say of a signed envelope."""
    headers, path = {"content-type": ENVELOPE_MEDIA_TYPE}, f"{API}/release_checks/envelope"
    read = reader(EnvelopeCheck)
    return Call(f"publishing {name}", "POST", path, read, wishes(allowed), envelope, headers, repeatable=True)


def foresee_checks(asked: CheckAsk) -> Call[list[CheckOut]]:
    """What publishing would say of a release that is not sealed yet."""
    return post("asking what publishing would say", f"{API}/release_checks", list[CheckOut], asked, repeatable=True)


def list_releases(where: str | None, limit: int, after: str | None, by_version: bool) -> Call[Page[ReleaseOut]]:
    """A page of releases."""
    order = "version" if by_version else None
    kind = Page[ReleaseOut]
    return get("listing releases", f"{API}/releases", kind, where=where, limit=limit, after=after, order=order)


def show_release(release_id: int) -> Call[ReleaseOut]:
    """One release."""
    return get(f"reading release {release_id}", f"{API}/releases/{release_id}", ReleaseOut)


def edit_release(release_id: int, request: ReleaseEdit, revision: int | None) -> Call[ReleaseOut]:
    """Changes notes or labels; only if ``revision`` still stands, where it is given."""
    headers = {"content-type": "application/json", **({} if revision is None else {"if-match": f'"{revision}"'})}
    body, path = request.model_dump_json(exclude_none=True).encode(), f"{API}/releases/{release_id}"
    return Call(f"changing release {release_id}", "PATCH", path, reader(ReleaseOut), {}, body, headers)


def drop_release(release_id: int) -> Call[None]:
    """Drops a draft."""
    return Call(f"dropping release {release_id}", "DELETE", f"{API}/releases/{release_id}", _nothing)


def publish_draft(release_id: int, allowed: Allowed) -> Call[ReleaseOut]:
    """Publishes a draft."""
    path = f"{API}/releases/{release_id}/publish"
    return Call(f"publishing release {release_id}", "POST", path, reader(ReleaseOut), wishes(allowed))


def make_baseline(release_id: int, reason: str) -> Call[ReleaseOut]:
    """Makes a release the baseline."""
    path = f"{API}/releases/{release_id}/baseline"
    return post(f"making release {release_id} the baseline", path, ReleaseOut, ReasonIn(reason=reason))


def foresee_withdrawal(release_id: int) -> Call[WithdrawalOut]:
    """What withdrawing a release would stop."""
    path = f"{API}/releases/{release_id}/withdrawal"
    return get(f"asking what withdrawing release {release_id} stops", path, WithdrawalOut)


def withdraw_release(release_id: int, reason: str) -> Call[WithdrawalOut]:
    """Withdraws a release."""
    path = f"{API}/releases/{release_id}/withdraw"
    return post(f"withdrawing release {release_id}", path, WithdrawalOut, ReasonIn(reason=reason))


def show_manifest(release_id: int) -> Call[ManifestOut]:
    """A release's signed manifest, for people."""
    return get(f"reading the manifest of release {release_id}", f"{API}/releases/{release_id}/manifest", ManifestOut)


def show_envelope(release_id: int) -> Call[bytes]:
    """A release's signed envelope without its images."""
    path = f"{API}/releases/{release_id}/envelope"
    return Call(f"reading the envelope of release {release_id}", "GET", path, bytes, repeatable=True)


def show_lineage(board: str, line: str) -> Call[LineageOut]:
    """Versions of a line over time."""
    return get(f"reading the lineage of {line} on {board}", f"{API}/lineage/{board}/{line}", LineageOut)


def list_unused_releases() -> Call[list[UnusedRelease]]:
    """Releases whose images nobody needs any more."""
    return get("asking what is unused", f"{API}/unused_releases", list[UnusedRelease])


def clean_releases(release_ids: list[int]) -> Call[CleanOut]:
    """Cleans away the images of releases that nobody needs."""
    path = f"{API}/unused_releases/clean"
    return post("cleaning images away", path, CleanOut, CleanIn(releases=release_ids))


def make_code(asked: CodeIn) -> Call[CodeOut]:
    """Makes an enrolment code."""
    return post("making an enrolment code", f"{API}/codes", CodeOut, asked)


def list_codes() -> Call[list[CodeOut]]:
    """Enrolment codes."""
    return get("listing enrolment codes", f"{API}/codes", list[CodeOut])


def close_code(code_id: int) -> Call[None]:
    """Closes an enrolment code."""
    return Call(f"closing code {code_id}", "DELETE", f"{API}/codes/{code_id}", _nothing)


def save_selection(request: SelectionIn) -> Call[SelectionOut]:
    """Saves a selection."""
    return post(f"saving selection {request.name}", f"{API}/selections", SelectionOut, request, repeatable=True)


def list_selections() -> Call[list[SelectionOut]]:
    """All selections."""
    return get("listing selections", f"{API}/selections", list[SelectionOut])


def show_selection(name: str) -> Call[SelectionOut]:
    """One selection."""
    return get(f"reading selection {name}", f"{API}/selections/{name}", SelectionOut)


def drop_selection(name: str) -> Call[None]:
    """Drops a selection."""
    return Call(f"dropping selection {name}", "DELETE", f"{API}/selections/{name}", _nothing)


def show_journal(limit: int, after: str | None, **wanted: Any) -> Call[Page[JournalEntry]]:
    """A page of the journal; ``wanted`` are the query parameters that pick entries."""
    return get("reading the journal", f"{API}/journal", Page[JournalEntry], limit=limit, after=after, **wanted)


def export_journal(written: Format, **wanted: Any) -> Call[bytes]:
    """The journal, oldest first; the answer is streamed."""
    params = {"format": written.value, **{name: value for name, value in wanted.items() if value is not None}}
    return Call("exporting the journal", "GET", f"{API}/journal/export", bytes, params, repeatable=True)


def check_journal() -> Call[JournalCheck]:
    """Whether the journal's hashes follow each other."""
    return get("checking the journal", f"{API}/journal/check", JournalCheck)


def presence(board: str | None) -> Call[list[PresenceSample]]:
    """Presence over time."""
    return get("reading presence over time", f"{API}/presence", list[PresenceSample], board=board)


def latest_events(rollout_id: int | None, kinds: Sequence[str], limit: int) -> Call[list[Event]]:
    """The newest events that there were."""
    wanted = {"rollout": rollout_id, "kind": list(kinds) or None, "limit": limit}
    return get("reading the latest events", f"{API}/events/latest", list[Event], **wanted)


def overview() -> Call[Overview]:
    """What needs a person, what is moving, who is there."""
    return get("reading the overview", f"{API}/overview", Overview)


def live() -> Call[Health]:
    """Whether the process answers."""
    return get("asking whether the service lives", "/health/live", Health)


def metrics() -> Call[str]:
    """Figures in Prometheus' text format."""
    return Call("reading the metrics", "GET", "/metrics", bytes.decode, repeatable=True)


def ready() -> Call[Health]:
    """Whether the service serves."""
    return get("asking for the service's health", "/health/ready", Health)


def openapi() -> Call[dict[str, Any]]:
    """The OpenAPI document."""
    return get("reading the OpenAPI document", f"{API}/openapi.json", dict[str, Any])
