"""Whether captures are small, told without decoding them: their records are counted up to a limit."""

import gzip
import zlib
from collections.abc import Sequence
from pathlib import Path
from struct import Struct
from typing import IO

from yaffle.capture.byte_source import decompressed

_MOST_BYTES = 64 << 20  # Larger files are not small, whatever they hold.
_UNKNOWN_BYTES = 1 << 20  # What is no capture (flow records, a case's file) is small up to here.
_PCAP = {b"\xa1\xb2\xc3\xd4": ">", b"\xa1\xb2\x3c\x4d": ">", b"\xd4\xc3\xb2\xa1": "<", b"\x4d\x3c\xb2\xa1": "<"}
_PCAPNG = b"\x0a\x0d\x0d\x0a"
_PACKET_BLOCKS = (2, 3, 6)
_HEAD = 24


def holds_at_most(paths: Sequence[Path], most: int) -> bool:
    """Whether some files together hold no more packets than that. What cannot be read holds none: reading will say."""
    left = most
    for path in paths:
        files = [file for file in path.rglob("*") if file.is_file()] if path.is_dir() else [path]
        try:
            if sum(file.stat().st_size for file in files) > _MOST_BYTES:
                return False
            left -= _records(path, left) if path.is_file() else _rows(files, left)
        except (OSError, EOFError, gzip.BadGzipFile, zlib.error, ValueError):
            continue
        if left < 0:
            return False
    return True


def packets_of(path: Path, most: int = 10_000) -> tuple[int, int]:
    """How many packets stand at the beginning of a capture, up to `most`, and in how many bytes (decompressed)."""
    with decompressed(path) or path.open("rb") as file:
        magic = file.read(4)
        if magic in _PCAP:
            count = _pcap_records(file, Struct(_PCAP[magic] + "8xI4x"), most)
        else:
            count = _pcapng_records(file, most) if magic == _PCAPNG else 0
        return count, file.tell()


def _rows(files: list[Path], most: int) -> int:
    """About how many packets a case or a history holds, by its size: 100 bytes each."""
    return min(most + 1, sum(file.stat().st_size for file in files) // 100)


def _records(path: Path, most: int) -> int:
    """How many packets a file holds; one more than `most` where there are more."""
    with decompressed(path) or path.open("rb") as file:
        magic = file.read(4)
        if magic in _PCAP:
            return _pcap_records(file, Struct(_PCAP[magic] + "8xI4x"), most)
        if magic == _PCAPNG:
            return _pcapng_records(file, most)
    return 0 if path.stat().st_size <= _UNKNOWN_BYTES else most + 1


def _pcap_records(file: IO[bytes], record: Struct, most: int) -> int:
    file.read(_HEAD - 4)
    count = 0
    while count <= most and len(head := file.read(16)) == 16:
        (size,) = record.unpack(head)
        if size > _MOST_BYTES or len(file.read(size)) < size:
            break
        count += 1
    return count


def _pcapng_records(file: IO[bytes], most: int) -> int:
    head = file.read(8)
    order = "<" if head[4:8] == b"\x4d\x3c\x2b\x1a" else ">"
    block = Struct(order + "II")
    (size,) = Struct(order + "I").unpack(head[:4])
    if not 12 <= size <= _MOST_BYTES:
        return 0
    file.read(size - 12)
    count = 0
    while count <= most and len(head := file.read(8)) == 8:
        kind, size = block.unpack(head)
        if not 12 <= size <= _MOST_BYTES or len(file.read(size - 8)) < size - 8:
            break
        count += kind in _PACKET_BLOCKS
    return count
