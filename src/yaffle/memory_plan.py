"""How much memory an analysis may take, and whether its columns fit into it."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

from yaffle.capture.byte_source import decompressed
from yaffle.capture.record_count import packets_of
from yaffle.errors import YaffleError
from yaffle.room import Room, SpilledRoom, free_bytes, keep_below, spill_folder

PACKET_BYTES = 200  # What a packet takes at most when nothing is spilled, in all columns and tables.
_LEAST_BYTES = 1 << 30  # What the program itself and one part in work take.
_UNPACKED = 6  # So many times as large a compressed capture is taken to be.
_UNITS = {"": 1, "K": 1 << 10, "M": 1 << 20, "G": 1 << 30, "T": 1 << 40}


@dataclass(frozen=True)
class Plan:
    """Where large columns are put, and the most that shall be in memory; 0: nothing is given back."""

    room: Room = field(default_factory=Room)
    most_bytes: int = 0


def bytes_of(text: str, option: str = "--memory", least: int = _LEAST_BYTES) -> int:
    """An amount as it is written for an option: 4GiB, 4G, 512 MiB. Raises YaffleError."""
    number = text.strip().upper().removesuffix("IB").removesuffix("B")
    unit = number[-1:] if number[-1:] in _UNITS else ""
    try:
        amount = float(number.removesuffix(unit))
    except ValueError:
        amount = 0.0
    if not least <= amount * _UNITS[unit] < 1 << 60:
        from_least = f"{least >> 30}GiB" if least >= 1 << 30 else f"{least >> 10}KiB"
        raise YaffleError(f"{option}: {text} is no amount from {from_least} up; write it like 4GiB")
    return int(amount * _UNITS[unit])


def planned(paths: Sequence[Path], most_bytes: int = 0) -> Plan:
    """In memory where it fits into what may be taken (half of what is free, unless told), else in files."""
    most = most_bytes or max(_LEAST_BYTES, free_bytes() // 2)
    expected = sum(_packets(path) for path in paths if path.is_file()) * PACKET_BYTES
    if expected + _LEAST_BYTES // 2 <= most:
        return Plan()
    keep_below(most * 3 // 4)  # Between two looks more is touched.
    return Plan(SpilledRoom(spill_folder()), most)


def _packets(path: Path) -> int:
    """About how many packets a file holds, by those at its beginning."""
    try:
        packed = decompressed(path)
        if packed is not None:
            packed.close()
        count, octets = packets_of(path)
        size = path.stat().st_size * (_UNPACKED if packed is not None else 1)
    except (OSError, EOFError, ValueError):  # Reading will say what is wrong with it.
        return 0
    return size * count // octets if octets else 0
