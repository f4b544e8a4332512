"""Who does the two parts of an analysis that cost most: reading files, and accounting for connections."""

from collections.abc import Sequence
from pathlib import Path

from yaffle.capture.captured import Capture
from yaffle.capture.payload import Payload
from yaffle.capture.reader import read_captures
from yaffle.exchanges.decoding import decode_messages
from yaffle.exchanges.messages import KnownMessages, Messages
from yaffle.ledger.accounts import OwnAccount
from yaffle.ledger.arrangement import Arrangement
from yaffle.ledger.engine import own_accounts
from yaffle.ledger.known import KnownAccount
from yaffle.progress import Progress
from yaffle.room import Room


class Workforce:
    """This process alone."""

    def read(self, paths: Sequence[Path], progress: Progress, room: Room) -> Capture:
        """The captures as one. room: where packets are put. Raises YaffleError or Cancelled."""
        return read_captures(paths, progress, room=room)

    def account(
        self,
        capture: Capture,
        arranged: Arrangement,
        payload: Payload,
        progress: Progress,
        room: Room,
        known: KnownAccount | None = None,
    ) -> tuple[Messages, OwnAccount]:
        """What connections say, and the account of each by its own packets.

        Where connections and their exchanges are known already they are taken over. Raises Cancelled.
        """
        messages = decode_messages(
            arranged.starts,
            arranged.order,
            capture.conversations.b_port[arranged.flow],
            payload,
            lambda share, words: progress(0.4 * share, words),
            KnownMessages(known.rows, known.messages) if known is not None else None,
        )
        account = own_accounts(
            capture, arranged, messages, lambda share, words: progress(0.4 + 0.6 * share, words), known=known, room=room
        )
        return messages, account
