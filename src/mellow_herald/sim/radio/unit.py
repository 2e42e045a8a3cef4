"""A simulated device on narrow radio, with the packages for clock, groups and fragments.

It knows the standards' commands and its own keys, and nothing of the service's side.
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from mellow_herald.core.radio.coding import Decoder, MemoryFlash, NotEnoughMemoryError
from mellow_herald.core.radio.keys import GroupSession, block_mic, group_key_key, unwrap
from mellow_herald.core.radio.packages import (
    PORTS,
    VERSION,
    Command,
    Package,
    clock,
    decode,
    encode,
    fragments,
    multicast,
)
from mellow_herald.core.radio.session import GUARD_S, gps_seconds

GROUPS, INDEXES = 4, 4
PACKAGES = {port: package for package, port in PORTS.items()}
COUNTER_START = -1
# A unit that was told something alone answers within so long (s); one of a group as it was told to spread answers.
PROMPT_S = 6.0
# That it has a block it says by itself so often; afterwards when it is asked.
MOST_TELLINGS = 4


@dataclass(slots=True)
class Membership:
    """A group that the unit is a member of, and the session in which it listens to it (GPS seconds, none: None)."""

    session: GroupSession
    counters: tuple[int, int]
    last: int = COUNTER_START
    listens: tuple[int, int] | None = None
    data_rate: int = 0
    frequency: int = 0


@dataclass(slots=True)
class Reception:
    """A block that is being received."""

    setup: fragments.FragSessionSetupReq
    flash: MemoryFlash
    decoder: Decoder
    received: int = 0
    newest: int = 0
    bursts: int = 0
    out_of_memory: bool = False
    mic_error: bool = False
    done: bool = False
    tellings: int = 0
    acknowledged: bool = False


@dataclass(slots=True)
class Unit:
    """``eui`` names it, ``root`` is its GenAppKey. Its clock runs wrong by ``drift`` (a share of the time), and was
    wrong by ``offset`` seconds when it started; ``most_missing`` is its memory for what is lost. What it was told it
    answers by itself, at a moment ``answers_within`` so many seconds. What comes on a port of none of the packages goes
    to its ``inbox``."""

    eui: str
    root: bytes
    started: datetime
    offset: float = 0.0
    drift: float = 0.0
    most_missing: int = 256
    flash_bytes: int = 1 << 20
    listens: bool = True
    memberships: dict[int, Membership] = field(default_factory=dict)
    receptions: dict[int, Reception] = field(default_factory=dict)
    blocks: list[bytes] = field(default_factory=list)
    answers_within: float = PROMPT_S
    inbox: Callable[[int, bytes, datetime], None] = lambda port, payload, at: None
    _set_at: datetime | None = None
    _queue: list[Command] = field(default_factory=list)
    _last_count: int = -1
    _token: int = 0
    _ask_time: bool = True
    _asks_left: int = 3

    def time(self, at: datetime) -> int:
        """What its clock shows (GPS seconds)."""
        since = (at - (self._set_at or self.started)).total_seconds()
        return int(gps_seconds(at) + self.offset + since * self.drift) % clock.TIME_MODULUS

    def clock(self, at: datetime) -> datetime:
        """The same as a moment."""
        off = (self.time(at) - gps_seconds(at) + clock.TIME_MODULUS // 2) % clock.TIME_MODULUS
        return at + timedelta(seconds=off - clock.TIME_MODULUS // 2)

    def speak(self, at: datetime) -> Iterator[tuple[int, bytes]]:
        """What it sends, by port: its answers, and its time where it was asked for it or never knew it."""
        if self._ask_time:
            self._queue.append(clock.AppTimeReq(self.time(at), self._token))
            # Nothing is answered where its time is right; and nobody answers who does not hear.
            self._asks_left -= 1
            self._ask_time = self._set_at is None and self._asks_left > 0
        for index, block in self.receptions.items():
            # Until it is answered: that it has the block may be lost on the way like anything else.
            told = fragments.FragDataBlockReceivedReq(index, block.mic_error)
            waits = block.done and block.setup.ack_reception and not block.acknowledged
            if waits and block.tellings < MOST_TELLINGS and told not in self._queue:
                block.tellings += 1
                self._queue.append(told)
        for package, port in PORTS.items():
            own = [self._now(one, at) for one in self._queue if one.package is package]
            if own:
                yield port, encode(own)
        self._queue = []

    def _now(self, command: Command, at: datetime) -> Command:
        """How long it is to a session is told as it is when the answer goes out."""
        if isinstance(command, multicast.McClassCSessionAns) and not command.error:
            listens = self.memberships[command.mc_group_id].listens
            assert listens is not None
            return multicast.McClassCSessionAns(command.mc_group_id, time_to_start=max(0, listens[0] - self.time(at)))
        return command

    def hear(self, port: int, payload: bytes, at: datetime) -> None:
        """Takes a downlink that came right after it spoke."""
        self.answers_within = PROMPT_S
        self._obey(port, payload, at)

    def _obey(self, port: int, payload: bytes, at: datetime) -> None:
        package = PACKAGES.get(port)
        if package is None:
            self.inbox(port, payload, at)
        for command in decode(package, payload, uplink=False) if package else ():
            self._take(command, at)

    def listens_to(self, at: datetime) -> Membership | None:
        """The group that it listens to now, by its own clock."""
        if not self.listens:
            return None
        now = self.time(at)
        for one in self.memberships.values():
            if one.listens and one.listens[0] - GUARD_S <= now < one.listens[1] + GUARD_S:
                return one
        return None

    def overhear(self, frame: bytes, frequency: int, data_rate: int, at: datetime) -> None:
        """Takes a frame that was sent to a group while it may be listening."""
        member = self.listens_to(at)
        if member is None or (member.frequency, member.data_rate) != (frequency, data_rate):
            return
        opened = member.session.open(frame, member.last)
        if opened is None:
            return
        counter, port, payload = opened
        if not member.counters[0] <= counter <= member.counters[1]:
            return
        member.last = counter
        spreads = [block.setup.block_ack_delay for block in self.receptions.values()]
        self.answers_within = 2.0 ** (max(spreads, default=0) + 4)
        self._obey(port, payload, at)

    def _take(self, command: Command, at: datetime) -> None:
        match command:
            case clock.AppTimeAns(correction, token):
                if token == self._token:
                    self.offset = self.time(at) + correction - gps_seconds(at)
                    # Once more, so that the service sees that it is right.
                    self._set_at, self._token, self._ask_time = at, (self._token + 1) % 16, True
            case clock.ForceDeviceResyncReq(times):
                self._ask_time, self._asks_left = True, max(1, times)
            case multicast.MulticastVersionReq():
                self._queue.append(multicast.MulticastVersionAns(Package.MULTICAST, VERSION))
            case fragments.FragmentsVersionReq():
                self._queue.append(fragments.FragmentsVersionAns(Package.FRAGMENTS, VERSION))
            case clock.ClockVersionReq():
                self._queue.append(clock.ClockVersionAns(Package.CLOCK, VERSION))
            case multicast.McGroupSetupReq():
                self._join(command)
            case multicast.McGroupDeleteReq(group):
                gone = self.memberships.pop(group, None)
                self._queue.append(multicast.McGroupDeleteAns(group, gone is None))
            case multicast.McClassCSessionReq():
                self._plan(command, at)
            case fragments.FragSessionSetupReq():
                self._prepare(command)
            case fragments.FragSessionDeleteReq(index):
                gone_too = self.receptions.pop(index, None)
                self._queue.append(fragments.FragSessionDeleteAns(index, gone_too is None))
            case fragments.FragSessionStatusReq(index, everybody):
                self._tell_status(index, everybody=everybody)
            case fragments.FragDataBlockReceivedAns(index):
                if index in self.receptions:
                    self.receptions[index].acknowledged = True
            case fragments.DataFragment(index, number, payload):
                self._take_fragment(index, number, payload)

    def _join(self, asked: multicast.McGroupSetupReq) -> None:
        key = unwrap(asked.mc_key_encrypted, group_key_key(self.root))
        known = self.memberships.get(asked.mc_group_id)
        session = GroupSession.derive(key, asked.mc_addr)
        counters = (asked.min_mc_fcount, asked.max_mc_fcount)
        if known is None or (known.session, known.counters) != (session, counters):
            self.memberships[asked.mc_group_id] = Membership(session, counters, asked.min_mc_fcount - 1)
        self._queue.append(multicast.McGroupSetupAns(asked.mc_group_id))

    def _plan(self, asked: multicast.McClassCSessionReq, at: datetime) -> None:
        member = self.memberships.get(asked.mc_group_id)
        if member is None:
            error = multicast.SessionError.GROUP_UNDEFINED
            self._queue.append(multicast.McClassCSessionAns(asked.mc_group_id, error))
            return
        end = asked.session_time + 2**asked.session_time_out
        if end <= self.time(at):
            error = multicast.SessionError.START_MISSED
            self._queue.append(multicast.McClassCSessionAns(asked.mc_group_id, error))
            return
        member.listens = (asked.session_time, end)
        member.data_rate, member.frequency = asked.dr, asked.dl_frequency
        self._queue.append(multicast.McClassCSessionAns(asked.mc_group_id, time_to_start=0))

    def _prepare(self, asked: fragments.FragSessionSetupReq) -> None:
        def answer(error: fragments.SetupError = fragments.TAKEN) -> None:
            self._queue.append(fragments.FragSessionSetupAns(asked.frag_index, error))

        known = self.receptions.get(asked.frag_index)
        if known is not None and known.setup == asked:
            answer()  # the answer was lost: what was received stays
        elif asked.frag_algo != 0:
            answer(fragments.SetupError.ALGO_UNSUPPORTED)
        elif asked.nb_frag * asked.frag_size > self.flash_bytes:
            answer(fragments.SetupError.NOT_ENOUGH_MEMORY)
        elif asked.session_cnt <= self._last_count:
            answer(fragments.SetupError.SESSION_REPLAYED)
        else:
            flash = MemoryFlash(asked.nb_frag, asked.frag_size)
            decoder = Decoder(asked.nb_frag, flash, most_missing=self.most_missing)
            self.receptions[asked.frag_index] = Reception(asked, flash, decoder)
            self._last_count = asked.session_cnt
            answer()

    def _take_fragment(self, index: int, number: int, payload: bytes) -> None:
        block = self.receptions.get(index)
        if block is None or block.done or len(payload) != block.setup.frag_size:
            return
        block.received += 1
        if number > block.newest:
            block.bursts += number > block.newest + 1
            block.newest = number
        try:
            complete = block.decoder.take(number, payload)
        except NotEnoughMemoryError:
            block.out_of_memory = True
            return
        if complete:
            block.done = True
            data = bytes(block.flash.block[: len(block.flash.block) - block.setup.padding])
            right = block_mic(self.root, block.setup.session_cnt, index, block.setup.descriptor, data)
            block.mic_error = right != block.setup.mic
            if not block.mic_error:
                # There is room for one.
                self.blocks = [data]
            if block.setup.ack_reception:
                self._queue.append(fragments.FragDataBlockReceivedReq(index, block.mic_error))

    def _tell_status(self, index: int, *, everybody: bool) -> None:
        block = self.receptions.get(index)
        if block is None:
            answer = fragments.FragSessionStatusAns(index, 0, 0, fragments.FragmentError.NO_SESSION)
        elif block.done and not everybody:
            return
        else:
            error = fragments.ALL_WELL
            # Not any more, once so many of the fragments themselves have come that its lines are enough.
            if block.out_of_memory and block.decoder.missing > self.most_missing:
                error |= fragments.FragmentError.NOT_ENOUGH_MATRIX_MEMORY
            if block.mic_error:
                error |= fragments.FragmentError.MIC_ERROR
            answer = fragments.FragSessionStatusAns(index, block.received, block.decoder.missing, error)
        self._queue.append(answer)

    @property
    def reception(self) -> Reception | None:
        """The block that it receives or received last."""
        return max(self.receptions.values(), key=lambda one: one.setup.session_cnt, default=None)

    @property
    def has_word(self) -> bool:
        """Whether it has something to answer."""
        return bool(self._queue) or (self._ask_time and self._set_at is not None)
