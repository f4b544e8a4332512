"""Flow records written as an IPFIX file (RFC 5655): messages of RFC 7011, one observation domain an exporter."""

from collections.abc import Callable
from pathlib import Path
from struct import pack

import numpy as np

from yaffle.arrays import Array
from yaffle.records.flow_table import Exporter

_TEMPLATE4, _TEMPLATE6, _NAMES = 256, 257, 258
_EACH = 400  # Records of a message: well below its 64 KB.
_NAME_BYTES = 32
# (field of FLOW, element, octets); addresses come first.
_FIELDS = (
    ("src_port", 7, 2), ("dst_port", 11, 2), ("transport", 4, 1), ("dscp", 195, 1), ("flags", 6, 1), ("ingress", 10, 4),
    ("egress", 14, 4),
    ("first_ns", 152, 8), ("last_ns", 153, 8), ("octets", 1, 8), ("packets", 2, 8), ("application", 95, 4),
)  # fmt: skip


def _template(number: int, wide: bool) -> bytes:
    ends = ((27, 16), (28, 16)) if wide else ((8, 4), (12, 4))
    fields = [*ends, *((element, size) for _, element, size in _FIELDS)]
    body = pack("!HH", number, len(fields)) + b"".join(pack("!HH", *field) for field in fields)
    return pack("!HH", 2, 4 + len(body)) + body


def _names(exporter: Exporter) -> list[bytes]:
    """Sets with an options template and the names of interfaces (RFC 7011 section 3.4.2)."""
    if not exporter.interfaces:
        return []
    body = pack("!HHH", _NAMES, 2, 1) + pack("!HHHH", 10, 4, 82, _NAME_BYTES)
    rows = b"".join(
        pack("!I", number & 0xFFFFFFFF) + name.encode()[:_NAME_BYTES].ljust(_NAME_BYTES, b"\0")
        for number, name in sorted(exporter.interfaces.items())[:1000]
    )
    return [pack("!HH", 3, 4 + len(body)) + body, pack("!HH", _NAMES, 4 + len(rows)) + rows]


def _encoded(rows: Array, wide: bool) -> Array:
    """Records as bytes, (n, size)."""
    form = [("ends", "V32" if wide else "V8"), *((name, f">u{size}") for name, _, size in _FIELDS)]
    out = np.zeros(rows.size, np.dtype(form))
    names = ("src_hi", "src_lo", "dst_hi", "dst_lo") if wide else ("src_lo", "dst_lo")
    out["ends"] = (
        np.stack([rows[name] for name in names], axis=1).astype(">u8" if wide else ">u4").view(out["ends"].dtype)[:, 0]
    )
    for name, _, size in _FIELDS:
        values = rows[name] // 1_000_000 if name in ("first_ns", "last_ns") else rows[name]
        out[name] = np.clip(values.astype(np.int64), 0, (1 << min(63, 8 * size)) - 1)
    return out.view(np.uint8).reshape(rows.size, out.dtype.itemsize)


def write_ipfix(
    path: Path, rows: Array, exporters: list[Exporter], go_on: Callable[[float], bool] = lambda _share: True
) -> int:
    """Writes rows of FLOW, exporter by exporter in order of arrival; gives how many.

    Counts are as scaled. Raises OSError; stops where `go_on` says so.
    """
    part = path.with_name(path.name + ".part")
    written = 0
    with part.open("wb") as file:
        for number in np.unique(rows["exporter"]).tolist():
            sequence, domain = 0, number + 1
            own = rows[rows["exporter"] == number]
            own = own[np.argsort(own["arrived_ns"], kind="stable")]
            first = [_template(_TEMPLATE4, False), _template(_TEMPLATE6, True), *_names(exporters[number])]
            for start in range(0, own.size, _EACH):
                if not go_on(written / rows.size):
                    part.unlink()
                    return 0
                block = own[start : start + _EACH]
                sets = first if start == 0 else []
                for template, wide in ((_TEMPLATE4, False), (_TEMPLATE6, True)):
                    some = block[block["ipv6"] == wide]
                    if some.size:
                        body = _encoded(some, wide).tobytes()
                        sets = [*sets, pack("!HH", template, 4 + len(body)) + body]
                body = b"".join(sets)
                seconds = int(block["arrived_ns"].max()) // 10**9 & 0xFFFFFFFF
                file.write(pack("!HHIII", 10, 16 + len(body), seconds, sequence & 0xFFFFFFFF, domain) + body)
                sequence += block.size + (len(exporters[number].interfaces) if start == 0 else 0)
                written += block.size
    part.replace(path)
    return written
