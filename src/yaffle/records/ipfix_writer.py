"""Flow records written as messages of IPFIX (RFC 7011), one observation domain an exporter, and as a file of them
(RFC 5655).
"""

from collections.abc import Callable, Iterator
from pathlib import Path
from struct import calcsize, pack

import numpy as np

from yaffle.arrays import Array, Structs, Uint8s2
from yaffle.records.elements import OWN, OWN_ENTERPRISE, OWN_SIZE
from yaffle.records.flow_table import MEASURED, Exporter

_TEMPLATE4, _TEMPLATE6, _NAMES = 256, 257, 258
_MEASURED_TOO = 3  # Templates with what a kernel measured have numbers so much higher.
_EACH = 400  # Records of a message of a file: well below its 64 KB.
_NAME_BYTES = 32
_HEAD = "!HHIII"
_IPFIX, _TEMPLATES, _OPTIONS = 10, 2, 3
# (field of FLOW, element, octets); addresses come first.
_FIELDS = (
    ("src_port", 7, 2), ("dst_port", 11, 2), ("transport", 4, 1), ("dscp", 195, 1), ("flags", 6, 1), ("ingress", 10, 4),
    ("egress", 14, 4),
    ("first_ns", 152, 8), ("last_ns", 153, 8), ("octets", 1, 8), ("packets", 2, 8), ("application", 95, 4),
)  # fmt: skip


def _template(number: int, wide: bool, measured: bool) -> bytes:
    ends = ((27, 16), (28, 16)) if wide else ((8, 4), (12, 4))
    fields = [pack("!HH", *field) for field in (*ends, *((element, size) for _, element, size in _FIELDS))]
    if measured:
        fields += [pack("!HHI", 0x8000 | element, OWN_SIZE, OWN_ENTERPRISE) for element in OWN]
    body = pack("!HH", number, len(fields)) + b"".join(fields)
    return pack("!HH", _TEMPLATES, 4 + len(body)) + body


def _names(exporter: Exporter) -> list[bytes]:
    """Sets with an options template and the names of interfaces (RFC 7011 section 3.4.2)."""
    if not exporter.interfaces:
        return []
    body = pack("!HHH", _NAMES, 2, 1) + pack("!HHHH", 10, 4, 82, _NAME_BYTES)
    rows = b"".join(
        pack("!I", number & 0xFFFFFFFF) + name.encode()[:_NAME_BYTES].ljust(_NAME_BYTES, b"\0")
        for number, name in sorted(exporter.interfaces.items())[:1000]
    )
    return [pack("!HH", _OPTIONS, 4 + len(body)) + body, pack("!HH", _NAMES, 4 + len(rows)) + rows]


def _encoded(rows: Structs, wide: bool, measured: bool) -> Uint8s2:
    """Records as bytes, (n, size)."""
    form = [("ends", "V32" if wide else "V8"), *((name, f">u{size}") for name, _, size in _FIELDS)]
    form += [(name, f">i{OWN_SIZE}") for name in MEASURED] if measured else []
    out = np.zeros(rows.size, np.dtype(form))
    names = ("src_hi", "src_lo", "dst_hi", "dst_lo") if wide else ("src_lo", "dst_lo")
    out["ends"] = (
        np.stack([rows[name] for name in names], axis=1).astype(">u8" if wide else ">u4").view(out["ends"].dtype)[:, 0]
    )
    for name, _, size in _FIELDS:
        values = rows[name] // 1_000_000 if name in ("first_ns", "last_ns") else rows[name]
        out[name] = np.clip(values.astype(np.int64), 0, (1 << min(63, 8 * size)) - 1)
    for name in MEASURED if measured else ():
        out[name] = rows[name]
    return out.view(np.uint8).reshape(rows.size, out.dtype.itemsize)


def messages(
    rows: Array, exporter: Exporter, domain: int, sequence: int = 0, each: int = _EACH
) -> Iterator[tuple[bytes, int]]:
    """Rows of FLOW of one exporter as messages in order of arrival, the templates in the first one, each with how many
    records were told so far. each: records of a message at most.
    """
    measured = any((rows[name] >= 0).any() for name in MEASURED)
    more = _MEASURED_TOO if measured else 0
    rows = rows[np.argsort(rows["arrived_ns"], kind="stable")]
    told = 0
    for start in range(0, rows.size, each):
        block, sets = rows[start : start + each], []
        if start == 0:
            sets = [_template(_TEMPLATE4 + more, False, measured), _template(_TEMPLATE6 + more, True, measured)]
            sets += _names(exporter)
        for template, wide in ((_TEMPLATE4 + more, False), (_TEMPLATE6 + more, True)):
            some = block[block["ipv6"] == wide]
            if some.size:
                body = _encoded(some, wide, measured).tobytes()
                sets.append(pack("!HH", template, 4 + len(body)) + body)
        body = b"".join(sets)
        seconds = int(block["arrived_ns"].max()) // 10**9 & 0xFFFFFFFF
        head = pack(_HEAD, _IPFIX, calcsize(_HEAD) + len(body), seconds, (sequence + told) & 0xFFFFFFFF, domain)
        told += block.size + (min(1000, len(exporter.interfaces)) if start == 0 else 0)
        yield head + body, told


def write_ipfix(
    path: Path, rows: Structs, exporters: list[Exporter], go_on: Callable[[float], bool] = lambda _share: True
) -> int:
    """Writes rows of FLOW, exporter by exporter in order of arrival; gives how many.

    Counts are as scaled. Raises OSError; stops where `go_on` says so.
    """
    part = path.with_name(path.name + ".part")
    written = 0
    with part.open("wb") as file:
        for number in np.unique(rows["exporter"]).tolist():
            own = rows[rows["exporter"] == number]
            for k, (message, _) in enumerate(messages(own, exporters[number], number + 1)):
                if not go_on((written + k * _EACH) / rows.size):
                    part.unlink()
                    return 0
                file.write(message)
            written += own.size
    part.replace(path)
    return written
