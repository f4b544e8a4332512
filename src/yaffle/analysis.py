"""A whole analysis: captures read, every wait accounted for."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path

from yaffle.arrays import Array
from yaffle.capture.captured import Capture
from yaffle.capture.reader import Progress, go_on, read_captures
from yaffle.errors import Cancelled
from yaffle.exchanges.exported import find_exports
from yaffle.exchanges.lookups import Lookups, find_lookups
from yaffle.exchanges.media import Media, find_media
from yaffle.exchanges.messages import Messages, decode_messages
from yaffle.exchanges.payload import Payload
from yaffle.findings.places import Places, Rule
from yaffle.ledger.engine import Account, account_all, arrange
from yaffle.ledger.names import charge_names
from yaffle.ledger.views import speaking_views
from yaffle.records.flow_table import FlowRecords
from yaffle.transport.datagrams import Datagrams, datagrams


@dataclass
class Analysis:
    """What was read and what was found."""

    capture: Capture
    account: Account
    speaker: Array  # for each connection, the view of it that speaks for all
    messages: Messages  # what exchanges say, where their protocol is known
    lookups: Lookups
    media: list[Media]  # voice and video streams
    flows: FlowRecords = field(default_factory=FlowRecords)  # what exporters told
    rules: tuple[Rule, ...] = ()  # the user's own names of applications

    @property
    def places(self) -> Places:
        """What hosts and applications are called."""
        return Places(self.capture.names, self.rules, self.lookups.resolved)

    @cached_property
    def datagrams(self) -> Datagrams:
        """Conversations that are not TCP."""
        return datagrams(self.capture)

    @cached_property
    def quotes(self) -> dict[int, Counter[int]]:
        """What ICMP errors said of conversations: for each, how often each kind (type << 8 | code)."""
        said: dict[int, Counter[int]] = {}
        for flow, kind in zip(self.capture.quotes["flow"].tolist(), self.capture.quotes["kind"].tolist(), strict=True):
            said.setdefault(flow, Counter())[kind] += 1
        said.pop(-1, None)
        return said


def analyse(paths: Sequence[Path | str], progress: Progress = go_on) -> Analysis:
    """Reads the files and accounts for every wait. Raises YaffleError or Cancelled."""

    def step(share: float, words: str) -> None:
        if not progress(share, words):
            raise Cancelled

    capture = read_captures(paths, lambda share, words: progress(0.5 * share, words))
    step(0.5, "putting connections together")
    arranged = arrange(capture)
    step(0.5, "reading what was asked")
    payload = Payload(capture)
    ports = capture.conversations.b_port[arranged.flow]
    messages = decode_messages(arranged.starts, arranged.order, ports, payload, lambda share, words: progress(0.5 + 0.2 * share, words))
    lookups = find_lookups(capture, payload, arranged.starts, arranged.order, arranged.flow, messages)
    media = find_media(capture, payload)
    flows = find_exports(capture, payload, lambda _share, words: progress(0.7, words))
    step(0.7, "accounting for every wait")
    account = account_all(capture, arranged, messages, lambda share, words: progress(0.7 + 0.3 * share, words))
    charge_names(account, lookups, capture.conversations)
    return Analysis(capture, account, speaking_views(account, capture.conversations), messages, lookups, media, flows)
