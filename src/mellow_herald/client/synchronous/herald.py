# Written by `make client` from ../asynchronous; change it there.
"""The synchronous client, written from the asynchronous one."""

from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from functools import cached_property
from types import TracebackType
from typing import TYPE_CHECKING, Any, Literal, TypeVar

import httpx

from mellow_herald.client import calls
from mellow_herald.client.calls import Call
from mellow_herald.client.errors import error_for, unreachable
from mellow_herald.client.stream import events
from mellow_herald.client.synchronous.charts import Charts
from mellow_herald.client.synchronous.coap import Coap
from mellow_herald.client.synchronous.comparison import Comparison
from mellow_herald.client.synchronous.devices import Baselines, Devices
from mellow_herald.client.synchronous.radio import Radio
from mellow_herald.client.synchronous.readings import Readings, Signals
from mellow_herald.client.synchronous.recordings import Recordings
from mellow_herald.client.synchronous.rehearsals import Rehearsals
from mellow_herald.client.synchronous.rollouts import Rollouts, Webhooks
from mellow_herald.client.synchronous.say import Approvals, Evidence
from mellow_herald.client.transport import (
    AGAIN,
    DEFAULT_URL,
    EVENTS,
    TIMEOUT,
    TRIES,
    Patience,
    default_headers,
    here,
    keyed,
    pause,
    pause_before,
    streamed,
)
from mellow_herald.core.inventory import Format
from mellow_herald.wire.board import BoardIn, BoardOut
from mellow_herald.wire.event import Event, Health, JournalCheck, JournalEntry, Overview, PresenceSample
from mellow_herald.wire.fleet import (
    CodeIn,
    CodeOut,
)
from mellow_herald.wire.key import KeyListOut
from mellow_herald.wire.model import Page
from mellow_herald.wire.person import (
    Me,
    PasswordChange,
    PersonIn,
    PersonOut,
    Role,
    RolesIn,
    SignIn,
    TokenFor,
    TokenIn,
    TokenOut,
)
from mellow_herald.wire.selection import SelectionIn, SelectionOut

if TYPE_CHECKING:
    from mellow_herald.client.synchronous.releases import Releases

Result = TypeVar("Result")
Admission = Literal["admitted", "refused", "retired"]
Serials = list[str]


class Herald:
    """A connection to the service. Close it, or use it with ``with``.

    Errors: ``UnreachableError``, ``NotSignedInError``, ``ProblemError``; each says what was being done. A call that
    may be repeated without harm is tried up to three times.
    """

    def __init__(
        self, url: str = DEFAULT_URL, *, token: str | None = None, transport: httpx.BaseTransport | None = None
    ) -> None:
        # Where nothing is encrypted there is nothing to verify: reading all certificates takes longer than most calls.
        verify = not url.startswith("http://")
        self._http = httpx.Client(
            base_url=url,
            headers=default_headers(token),
            timeout=TIMEOUT,
            transport=transport,
            trust_env=False,
            verify=verify,
        )
        self._told_time: str | None = None
        self.people = People(self)
        self.boards = Boards(self)
        self.keys = Keys(self)
        self.codes = Codes(self)
        self.devices = Devices(self)
        self.baselines = Baselines(self)
        self.selections = Selections(self)
        self.rollouts = Rollouts(self)
        self.webhooks = Webhooks(self)
        self.radio = Radio(self)
        self.coap = Coap(self)
        self.signals = Signals(self)
        self.readings = Readings(self)
        self.recordings = Recordings(self)
        self.rehearsals = Rehearsals(self)
        self.evidence = Evidence(self)
        self.approvals = Approvals(self)
        self.comparison = Comparison(self)
        self.charts = Charts(self)
        self.journal = Journal(self)

    def __enter__(self) -> "Herald":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """Closes the connection."""
        self._http.close()

    @property
    def url(self) -> str:
        """The service's address."""
        return str(self._http.base_url)

    @property
    def service_time(self) -> datetime:
        """The service's time, as its last answer to a call told it; this machine's, where none did."""
        return datetime.now(UTC) if self._told_time is None else datetime.fromisoformat(self._told_time)

    @cached_property
    def releases(self) -> "Releases":
        """Releases. Loaded when they are asked for: most programs never seal."""
        from mellow_herald.client.synchronous.releases import Releases

        return Releases(self)

    def latest_events(
        self, *, rollout_id: int | None = None, kinds: Sequence[str] = (), limit: int = 20
    ) -> list[Event]:
        """The newest events that there were, of a rollout or of all, the newest first."""
        return self.send(calls.latest_events(rollout_id, kinds, limit))

    def overview(self) -> Overview:
        """What needs a person, what is moving, who is there."""
        return self.send(calls.overview())

    def presence(self, board: str | None = None) -> list[PresenceSample]:
        """How many devices were present how over time, as it was noted then."""
        return self.send(calls.presence(board))

    def live(self) -> Health:
        """Whether the process answers at all."""
        return self.send(calls.live())

    def metrics(self) -> str:
        """The service's figures in Prometheus' text format."""
        return self.send(calls.metrics())

    def ready(self) -> Health:
        """The service's health; a ``ProblemError`` if it is not ready."""
        return self.send(calls.ready())

    def openapi(self) -> dict[str, Any]:
        """The service's OpenAPI document."""
        return self.send(calls.openapi())

    def send(self, call: Call[Result]) -> Result:
        """Sends a call and reads its answer."""
        tries = TRIES if call.repeatable else 1
        response: httpx.Response | None = None
        for attempt in range(1, tries + 1):
            if attempt > 1:
                pause(pause_before(attempt, response))
            response = None
            try:
                response = self._http.send(self._http.build_request(**keyed(call)))
            except httpx.TransportError as error:
                if attempt == tries:
                    raise unreachable(self._http.base_url, error, call.doing) from error
                continue
            self._told_time = response.headers.get("herald-time", self._told_time)
            if response.is_success:
                return call.read(response.content)
            if response.status_code not in AGAIN or attempt == tries:
                raise error_for(response, call.doing)
        raise AssertionError("unreachable")

    def upload(self, call: Call[Result], portions: Iterator[bytes], *, timeout_s: float | None = None) -> Result:
        """Sends a call whose body is a stream; never repeated by itself. The answer may take ``timeout_s``."""
        try:
            response = self._http.send(self._http.build_request(**streamed(call, _portions(portions), timeout_s)))
        except httpx.TransportError as error:
            raise unreachable(self._http.base_url, error, call.doing) from error
        if not response.is_success:
            raise error_for(response, call.doing)
        return call.read(response.content)

    def download(self, call: Call[object]) -> Iterator[bytes]:
        """The answer of a call, piece by piece."""
        try:
            with self._http.stream(**keyed(call)) as response:
                if not response.is_success:
                    response.read()
                    raise error_for(response, call.doing)
                for piece in response.iter_bytes():
                    yield piece
        except httpx.TransportError as error:
            raise unreachable(self._http.base_url, error, call.doing) from error

    def follow(
        self, *, rollout_id: int | None = None, after: int | None = None, timeout: float | None = None
    ) -> Iterator[Event]:
        """The event feed, from now on or from after event ``after``; a broken connection is taken up again. With
        ``timeout`` a ``WaitedTooLongError`` ends it after so many seconds, or up to 15 s later."""
        broken, patience = 0, Patience(timeout, "following the event feed")
        while True:
            patience.check()
            params = {"rollout": rollout_id, "after": after}
            given = {name: value for name, value in params.items() if value is not None}
            try:
                with self._http.stream("GET", EVENTS, params=given, timeout=patience.timeouts) as response:
                    if not response.is_success:
                        response.read()
                        raise error_for(response, "following the event feed")
                    for event in events(response.iter_lines(), patience.check):
                        broken, after = 0, event.id
                        yield event
            except httpx.TransportError as error:
                patience.check()
                broken += 1
                if broken > TRIES * 3:
                    raise unreachable(self._http.base_url, error, "following the event feed") from error
            pause(pause_before(min(broken, 4) + 2))


def _portions(portions: Iterator[bytes]) -> Iterator[bytes]:
    # The next portion may have to be read from a disk.
    while (portion := here(next, portions, None)) is not None:
        yield portion


class People:
    """Sign-in, the team, and tokens."""

    def __init__(self, herald: Herald) -> None:
        self._herald = herald

    def sign_in(self, name: str, password: str) -> Me:
        """Opens a session for this client."""
        return self._herald.send(calls.sign_in(SignIn(name=name, password=password)))

    def sign_out(self) -> None:
        """Ends the session, or closes the token, that this client uses."""
        self._herald.send(calls.sign_out())

    def whoami(self) -> Me:
        """Who is signed in."""
        return self._herald.send(calls.whoami())

    def make_token(self, name: str = "command line", days: int = 90, only_for: TokenFor | None = None) -> TokenOut:
        """Makes a token; its secret is in the answer, this once. With ``only_for`` it may do that alone."""
        return self._herald.send(calls.make_token(TokenIn(name=name, days=days, only_for=only_for)))

    def tokens(self, *, everybody: bool = False) -> list[TokenOut]:
        """One's own open tokens, or everybody's (for admins)."""
        return self._herald.send(calls.list_tokens(everybody))

    def close_token(self, token_id: int) -> None:
        """Closes one of one's own tokens; an admin may close anybody's."""
        self._herald.send(calls.close_token(token_id))

    def change_password(self, old: str, new: str) -> None:
        """Changes one's own password (at least 10 characters); one's other sessions end."""
        self._herald.send(calls.change_password(PasswordChange(old=old, new=new)))

    def add(self, name: str, roles: Sequence[Role | str], *, only: str | None = None) -> PersonOut:
        """Adds somebody, narrowed to the devices that a selector picks if ``only`` says so; the first password is in
        the answer, this once."""
        asked = PersonIn(name=name, roles=[Role(role) for role in roles], only=only)
        return self._herald.send(calls.add_person(asked))

    def list(self) -> list[PersonOut]:
        """Everybody in the team, those who were closed too."""
        return self._herald.send(calls.list_people())

    def set_roles(
        self, name: str, roles: Sequence[Role | str], *, only: str | Literal[False] | None = None
    ) -> PersonOut:
        """Gives somebody these roles in place of those they have, and narrows them to the devices that a selector
        picks (False: to none any more; None: as before)."""
        narrowed = {} if only is None else {"only": only or None}
        asked = RolesIn(roles=[Role(role) for role in roles], **narrowed)
        return self._herald.send(calls.set_roles(name, asked))

    def reset_password(self, name: str) -> PersonOut:
        """Gives somebody a first password anew, in the answer this once; their sessions end."""
        return self._herald.send(calls.reset_password(name))

    def close(self, name: str) -> None:
        """Lets somebody in no more: sessions, tokens and event streams end."""
        self._herald.send(calls.close_person(name))


class Boards:
    """Hardware models."""

    def __init__(self, herald: Herald) -> None:
        self._herald = herald

    def add(self, board: BoardIn) -> BoardOut:
        """Adds a board or replaces what is known of it."""
        return self._herald.send(calls.add_board(board))

    def list(self) -> list[BoardOut]:
        """All boards."""
        return self._herald.send(calls.list_boards())

    def show(self, name: str) -> BoardOut:
        """One board."""
        return self._herald.send(calls.show_board(name))


class Keys:
    """Key lists."""

    def __init__(self, herald: Herald) -> None:
        self._herald = herald

    def publish(self, root: bytes, key_list: bytes) -> KeyListOut:
        """Publishes a key list signed by ``root`` (the raw public key, 32 bytes)."""
        return self._herald.send(calls.publish_key_list(calls.key_list(root, key_list)))

    def newest(self) -> KeyListOut:
        """The key list in force."""
        return self._herald.send(calls.newest_key_list())


class Codes:
    """Enrolment codes."""

    def __init__(self, herald: Herald) -> None:
        self._herald = herald

    def make(self, asked: CodeIn) -> CodeOut:
        """Makes a code; it is in the answer, this once."""
        return self._herald.send(calls.make_code(asked))

    def list(self) -> list[CodeOut]:
        """All codes."""
        return self._herald.send(calls.list_codes())

    def close(self, code_id: int) -> None:
        """Closes a code before its time."""
        self._herald.send(calls.close_code(code_id))


class Selections:
    """Selectors saved under a name."""

    def __init__(self, herald: Herald) -> None:
        self._herald = herald

    def save(self, name: str, selector: str, *, note: str = "") -> SelectionOut:
        """Saves a selector, or replaces the one of that name."""
        said = SelectionIn(name=name, selector=selector, note=note)
        return self._herald.send(calls.save_selection(said))

    def list(self) -> list[SelectionOut]:
        """All selections, and how their devices stand."""
        return self._herald.send(calls.list_selections())

    def show(self, name: str) -> SelectionOut:
        """One selection."""
        return self._herald.send(calls.show_selection(name))

    def drop(self, name: str) -> None:
        """Drops a selection."""
        self._herald.send(calls.drop_selection(name))


def _picked(
    by: str | None,
    what: str | None,
    subject: str | None,
    text: str | None,
    since: datetime | None,
    until: datetime | None,
    decisions: bool,
) -> dict[str, Any]:
    """The query that picks entries of the journal."""
    times = {"since": since and since.isoformat(), "until": until and until.isoformat()}
    return {"by": by, "what": what, "subject": subject, "text": text, "decisions": decisions or None, **times}


class Journal:
    """The journal."""

    def __init__(self, herald: Herald) -> None:
        self._herald = herald

    def list(
        self,
        *,
        by: str | None = None,
        what: str | None = None,
        subject: str | None = None,
        text: str | None = None,
        since: datetime | None = None,
        until: datetime | None = None,
        decisions: bool = False,
        limit: int = 100,
        after: str | None = None,
    ) -> Page[JournalEntry]:
        """A page of the journal, newest first: ``by`` whom, words within ``what`` and ``subject`` or anywhere
        (``text``), between two times; ``decisions`` leaves out that devices enrolled."""
        picked = _picked(by, what, subject, text, since, until, decisions)
        return self._herald.send(calls.show_journal(limit, after, **picked))

    def export(
        self,
        *,
        written: Format = Format.JSONL,
        by: str | None = None,
        what: str | None = None,
        subject: str | None = None,
        text: str | None = None,
        since: datetime | None = None,
        until: datetime | None = None,
        decisions: bool = False,
    ) -> Iterator[bytes]:
        """The journal as CSV or JSON Lines, oldest first, piece by piece; picked as in ``list``."""
        picked = _picked(by, what, subject, text, since, until, decisions)
        return self._herald.download(calls.export_journal(written, **picked))

    def check(self) -> JournalCheck:
        """Whether the service finds its journal to be what it was when it was written."""
        return self._herald.send(calls.check_journal())
