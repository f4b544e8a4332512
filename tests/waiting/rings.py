"""A capture written file by file, as a ring is."""

import struct

from yaffle.capture.payload import Payload
from yaffle.capture.pcapng_writer import write_pcapng
from yaffle.capture.reader import read_captures


class Blocks:
    """The blocks of a capture: those before the packets, and the packets."""

    def __init__(self, path):
        data, at = path.read_bytes(), 0
        self.head, self.packets = b"", []
        while at < len(data):
            kind, size = struct.unpack_from("<II", data, at)
            if kind == 6:
                self.packets.append(data[at : at + size])
            else:
                self.head += data[at : at + size]
            at += size

    def write(self, ring, files, between):
        """So many files in three steps each; `between` is called after each step."""
        per = len(self.packets) // files + 1
        for first in range(0, len(self.packets), per):
            chunk = self.packets[first : first + per]
            with (ring / f"{first:08d}.pcapng").open("wb") as out:
                out.write(self.head)
                for k in range(0, len(chunk), per // 3):
                    out.write(b"".join(chunk[k : k + per // 3]))
                    out.flush()
                    between()


def as_pcapng(source, path):
    """The packets of a capture of any form, of one interface."""
    capture = read_captures([source])
    packets, data = capture.packets, Payload(capture).sources[0]
    columns = (packets.time_ns, packets.wire_bytes, packets.position, packets.captured_bytes)
    rows = zip(*(column.tolist() for column in columns), strict=True)
    link = capture.sources[0].interfaces[0].link_type
    write_pcapng(path, ((at, wire, data[p : p + size].tobytes()) for at, wire, p, size in rows), link_type=link)
    return path
