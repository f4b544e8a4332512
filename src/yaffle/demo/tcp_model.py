"""A small honest TCP: handshake, slow start, SACK recovery, timeouts, delayed acknowledgements, windows, closing.

After RFC 9293, 5681, 6298, 6675 (simplified), 7323. Applications are generators that yield what they wait for.
"""

from collections.abc import Callable, Generator
from typing import NamedTuple

from yaffle.demo.network import MS, Hop, Packet, World

MSS = 1448
HEADERS = 14 + 20 + 32
_SCALE = 7
FIN, SYN, RST, PSH, ACK = 1, 2, 4, 8, 16


class Segment(NamedTuple):
    """A TCP segment as the taps record it. Numbers count from 0; `base` values make them look real."""

    end: "Endpoint"
    flags: int
    seq: int
    ack: int
    window: int
    length: int
    tsval: int
    tsecr: int
    sack: tuple[tuple[int, int], ...]


class Recv(NamedTuple):
    """Wait until so many more bytes have been read."""

    octets: int


class Sleep(NamedTuple):
    """Do nothing for a while."""

    ns: int


class Send(NamedTuple):
    """Write bytes; goes on at once (the socket buffers them). What they begin with may be given."""

    octets: int
    text: bytes = b""


class Until(NamedTuple):
    """Wait for somebody else: `begin` is given what to call when it is time to go on."""

    begin: Callable[[Callable[[], None]], None]


Script = Generator[Recv | Sleep | Send | Until, None, None]


class Host:
    """An address with a clock of its own and a counter of packets for each connection."""

    def __init__(self, world: World, address: str) -> None:
        self.world, self.address = world, address
        self.clock_offset = world.random.randrange(1 << 31)
        self.next_port = 32768 + world.random.randrange(20000)

    def tsval(self) -> int:
        """Timestamp clock: a tick a millisecond."""
        return (self.world.now // MS + self.clock_offset) & 0xFFFFFFFF

    def port(self) -> int:
        """A fresh port for a client."""
        self.next_port += 1
        return self.next_port


class Endpoint:
    """One end of one connection."""

    def __init__(
        self, host: Host, port: int, script: Script | None, *, buffer_bytes: int = 1 << 20, read_bps: int = 0
    ) -> None:
        self.host, self.world, self.port, self.script = host, host.world, port, script
        self.peer: Endpoint
        self.route: list[Hop] = []  # the hops, then the peer
        self.base = self.world.random.randrange(1 << 32)
        self.ip_id = self.world.random.randrange(1 << 16)
        self.buffer, self.read_bps = buffer_bytes, read_bps
        self.state = "closed"
        # sending
        self.una = self.nxt = self.written = 0
        self.fin_at = -1
        self.cwnd, self.ssthresh = 10 * MSS, 1 << 30
        self.peer_window = 65535
        self.sacked: list[tuple[int, int]] = []
        self.resent_to = 0  # in recovery: what was sent again ends here
        self.recover = -1
        self.after_timeout = False
        self.srtt, self.rttvar, self.rto = 0, 0, 1000 * MS
        self.timer = 0  # number of the timer in force; older ones are stale
        self.backoff = 0
        self.repeats = 0
        # receiving
        self.rcv = 0
        self.held: list[tuple[int, int]] = []
        self.unread = 0
        self.wanted = 0
        self.ts_recent = 0
        self.ack_owed = 0
        self.ack_timer = 0
        self.advertised = 0
        self.peer_fin = -1
        self.reading_until = 0
        self.said: list[tuple[int, bytes]] = []  # where in the stream, and what
        # what the applications saw
        self.log: list[tuple[int, str, int]] = []

    # --- opening ---
    def connect(self) -> None:
        """The client's first step."""
        self.state = "syn-sent"
        self._emit(SYN, 0, 0)
        self.nxt = 1
        self._arm()

    def _emit(self, flags: int, seq: int, length: int) -> None:
        self.ip_id = (self.ip_id + 1) & 0xFFFF
        window = min(self.buffer - self.unread - sum(b - a for a, b in self.held), 65535 << _SCALE)
        window = max(0, window) if not flags & SYN else min(window, 65535)
        if not flags & SYN:
            window = (window >> _SCALE) << _SCALE
        self.advertised = self.rcv + window
        self.ack_owed = 0
        self.ack_timer += 1
        segment = Segment(
            self,
            flags,
            seq,
            self.rcv,
            window if flags & SYN else window >> _SCALE,
            length,
            self.host.tsval(),
            self.ts_recent,
            tuple(self.held[-3:]),
        )
        sack = 4 + 8 * len(segment.sack) if segment.sack and not flags & SYN else 0
        size = HEADERS + sack + length + (8 if flags & SYN else 0)
        self.world.forward(Packet(self.route, size, self.ip_id, segment))

    # --- the application ---
    def step(self) -> None:
        """Lets the script go on until it has to wait."""
        while self.script is not None:
            try:
                wish = next(self.script)
            except StopIteration:
                self.script = None
                self.close()
                return
            if isinstance(wish, Send):
                self.log.append((self.world.now, "send", wish.octets))
                if wish.text:
                    self.said.append((self.written, wish.text))
                self.written += wish.octets
                self._push()
            elif isinstance(wish, Sleep):
                self.world.at(self.world.now + wish.ns, self.step)
                return
            elif isinstance(wish, Until):
                wish.begin(self.step)
                return
            else:
                self.wanted += wish.octets
                if self.wanted > 0 and not self._satisfied():
                    return

    def _satisfied(self) -> bool:
        """Reads what is there; whether the wish is met. A slow reader takes its time for each bite."""
        if self.read_bps:
            self._read_slowly()
            return False
        taken = min(self.unread, self.wanted) if self.wanted > 0 else 0
        self.unread -= taken
        self.wanted -= taken
        return self.wanted <= 0

    def _read_slowly(self) -> None:
        if self.reading_until > self.world.now or self.wanted <= 0:
            return
        bite = min(self.unread, self.wanted, 8192)
        if bite:
            self.reading_until = self.world.now + bite * 8 * 1_000_000_000 // self.read_bps
            self.world.at(self.reading_until, self._bite_done, bite)

    def _bite_done(self, bite: int) -> None:
        self.unread -= bite
        self.wanted -= bite
        self._maybe_update_window()
        if self.wanted <= 0:
            self.log.append((self.world.now, "received", 0))
            self.step()
        else:
            self._read_slowly()

    def _maybe_update_window(self) -> None:
        free = self.buffer - self.unread
        if (
            self.rcv + free - self.advertised >= min(self.buffer // 2, 2 * MSS * 4)
            and self.advertised - self.rcv < 2 * MSS
        ):
            self._emit(ACK, self.nxt, 0)

    def close(self) -> None:
        """No more to send."""
        if self.fin_at < 0 and self.state == "open":
            self.fin_at = self.written + 1
            self._push()

    # --- sending ---
    def _push(self) -> None:
        if self.state != "open":
            return
        while True:
            if self.recover >= 0:
                if not self._resend_one():
                    break
                continue
            end = self.written + 1
            room = min(self.una + self.cwnd, self.una + self.peer_window) - self.nxt
            length = min(MSS, end - self.nxt, room)
            if length <= 0 or (length < min(MSS, end - self.nxt) and self.nxt > self.una):
                break
            last = self.nxt + length == end
            self._emit(ACK | (PSH if last else 0), self.nxt, length)
            self.nxt += length
            if self.nxt - length == self.una:
                self._arm()
        if self.fin_at >= 0 and self.nxt == self.fin_at and self.recover < 0:
            self._emit(FIN | ACK, self.nxt, 0)
            self.nxt += 1
            self._arm()
        if self.peer_window == 0 and self.nxt == self.una and self.nxt < self.written + 1:
            self._arm()  # The persist timer.

    def _flying(self) -> int:
        return self.nxt - self.una - sum(b - a for a, b in self.sacked)

    def _resend_one(self) -> bool:
        """In recovery: sends the next hole again, or new data, while the pipe has room (RFC 6675 section 4)."""
        highest = self.recover if self.after_timeout else max((b for _, b in self.sacked), default=self.una)
        at, known = max(self.una, self.resent_to), 0
        for left, right in sorted(self.sacked):
            if left <= at < right:
                at = right
            known += max(0, min(right, highest) - max(left, at))
        lost = max(0, highest - at - known)
        if self._flying() - lost >= self.cwnd and self.resent_to > self.una:
            return False
        if at < highest or self.resent_to <= self.una:
            stop = min([left for left, _ in self.sacked if left > at], default=self.nxt)
            length = min(MSS, stop - at, self.written + 1 - at)
            if length > 0:
                self._emit(ACK | PSH, at, length)
                self.repeats += 1
                self.resent_to = at + length
                return True
            if self.fin_at == at < self.nxt:
                self._emit(FIN | ACK, at, 0)
                self.repeats += 1
                self.resent_to = at + 1
            return False
        length = min(MSS, self.una + self.peer_window - self.nxt, self.written + 1 - self.nxt)
        if length <= 0 or self.fin_at == self.nxt:
            return False
        self._emit(ACK, self.nxt, length)
        self.nxt += length
        return True

    def _arm(self) -> None:
        self.timer += 1
        self.world.at(self.world.now + min(self.rto << self.backoff, 60_000 * MS), self._timeout, self.timer)

    def _timeout(self, number: int) -> None:
        if number != self.timer or self.state == "closed":
            return
        if self.state in ("syn-sent", "syn-received"):
            self.repeats += 1
            self.backoff += 1
            self._emit(SYN if self.state == "syn-sent" else SYN | ACK, 0, 0)
            self._arm()
            return
        if self.una == self.nxt:
            if self.peer_window == 0 and self.nxt < self.written + 1:
                self._emit(ACK, self.nxt - 1, 0)  # A probe: the answer tells the window.
                self.backoff = min(self.backoff + 1, 6)
                self._arm()
            return
        self.ssthresh = max(self._flying() // 2, 2 * MSS)
        self.cwnd = MSS
        self.sacked = []
        self.recover, self.resent_to, self.after_timeout = self.nxt, self.una, True
        self.backoff = min(self.backoff + 1, 8)
        self._resend_one()
        self._arm()

    # --- receiving ---
    def enter(self, packet: Packet) -> None:
        """A segment arrives."""
        segment: Segment = packet.fields
        flags = segment.flags
        if flags & RST:
            self.state = "closed"
            return
        if flags & SYN:
            self._opening(segment)
            return
        if self.state == "syn-received" and segment.ack >= 1:
            self.state, self.una = "open", 1
            self.backoff = 0
            self.timer += 1
            self._measure(segment.tsecr)
            self.step()
        if self.state != "open":
            return
        self._acknowledged(segment)
        if segment.length or flags & FIN:
            self._take(segment)

    def _opening(self, segment: Segment) -> None:
        self.ts_recent = segment.tsval
        self.rcv = 1
        self.peer_window = segment.window
        if segment.flags & ACK:
            if self.state == "syn-sent":
                self.state, self.una, self.backoff = "open", 1, 0
                self.timer += 1
                self._measure(segment.tsecr)
                self.log.append((self.world.now, "connected", 0))
                self._emit(ACK, self.nxt, 0)
                self.step()
            elif self.state == "open":
                self._emit(ACK, self.nxt, 0)
        elif self.state in ("closed", "syn-received"):
            if self.state == "syn-received":
                self.repeats += 1
            self.state = "syn-received"
            self._emit(SYN | ACK, 0, 0)
            self.nxt = 1
            self._arm()

    def _measure(self, tsecr: int) -> None:
        sample = max(1, (self.host.tsval() - tsecr) & 0xFFFFFFFF) * MS
        if self.srtt == 0:
            self.srtt, self.rttvar = sample, sample // 2
        else:
            self.rttvar += (abs(self.srtt - sample) - self.rttvar) // 4
            self.srtt += (sample - self.srtt) // 8
        self.rto = self.srtt + max(200 * MS, 4 * self.rttvar)

    def _acknowledged(self, segment: Segment) -> None:
        ack = segment.ack
        self.peer_window = segment.window << _SCALE
        if ack > self.una and ack <= self.nxt:
            gained = ack - self.una
            self.una = ack
            self.backoff = 0
            self._measure(segment.tsecr)
            self.sacked = [(max(a, ack), b) for a, b in self.sacked if b > ack]
            if self.recover >= 0 and ack >= self.recover:
                self.recover, self.resent_to, self.after_timeout = -1, 0, False
                self.cwnd = max(self.ssthresh, 2 * MSS)
            elif self.cwnd < self.ssthresh:
                self.cwnd += min(gained, 2 * MSS) if self.recover < 0 else gained
            elif self.recover < 0:
                self.cwnd += max(1, MSS * gained // self.cwnd)
            if self.una < self.nxt:
                self._arm()
            else:
                self.timer += 1
        for left, right in segment.sack:
            if right > self.una:
                self._merge(self.sacked, max(left, self.una), right)
        if self.recover < 0 and sum(b - a for a, b in self.sacked) >= 3 * MSS:
            self.ssthresh = max(self._flying() * 7 // 10, 2 * MSS)
            self.cwnd = self.ssthresh
            self.recover, self.resent_to = self.nxt, self.una
        self._push()

    @staticmethod
    def _merge(ranges: list[tuple[int, int]], left: int, right: int) -> None:
        """Adds a range; the touched one moves to the end, as the latest SACK block comes first."""
        touching = [r for r in ranges if r[0] <= right and r[1] >= left]
        for r in touching:
            ranges.remove(r)
            left, right = min(left, r[0]), max(right, r[1])
        ranges.append((left, right))

    def _take(self, segment: Segment) -> None:
        left, right = segment.seq, segment.seq + segment.length + (segment.flags & FIN)
        if segment.flags & FIN:
            self.peer_fin = right
        before = self.rcv
        disorder = left > self.rcv or right <= self.rcv or bool(self.held)
        if left <= self.rcv:
            self.ts_recent = segment.tsval
        if right > self.rcv:
            self._merge(self.held, max(left, self.rcv), right)
            for a, b in list(self.held):
                if a <= self.rcv:
                    self.held.remove((a, b))
                    self.rcv = b
        got = self.rcv - before - (1 if 0 <= self.peer_fin == self.rcv and before < self.rcv else 0)
        self.unread += max(0, got)
        self.ack_owed += segment.length
        if disorder or self.ack_owed >= 2 * MSS or segment.flags & FIN:
            self._emit(ACK, self.nxt, 0)
        else:
            self.ack_timer += 1
            self.world.at(self.world.now + 40 * MS, self._late_ack, self.ack_timer)
        if got > 0 and self.wanted > 0:
            if self.read_bps:
                self._read_slowly()
            elif self._satisfied():
                self.log.append((self.world.now, "received", 0))
                self.step()
        if 0 <= self.peer_fin == self.rcv:
            self.world.at(self.world.now + 100_000, self.close)

    def _late_ack(self, number: int) -> None:
        if number == self.ack_timer and self.ack_owed:
            self._emit(ACK, self.nxt, 0)


def pair(client: Endpoint, server: Endpoint, up: list[Hop], down: list[Hop]) -> None:
    """Joins two ends by the hops between them."""
    client.peer, server.peer = server, client
    client.route, server.route = [*up, server], [*down, client]
