"""What stands above every report of a house, kept beside the preferences: a logo, an address, an order of sections."""

import base64
import json
from dataclasses import asdict, replace
from pathlib import Path

from yaffle.errors import YaffleError
from yaffle.report.plan import Letterhead
from yaffle.session.preferences import file_of_preferences

_MOST_BYTES = 1 << 20
_KINDS = {".png": "image/png", ".jpg": "image/jpeg", ".jpeg": "image/jpeg"}
_BEGINNINGS = {"image/png": b"\x89PNG\r\n\x1a\n", "image/jpeg": b"\xff\xd8\xff"}


def file_of_letterhead() -> Path:
    """Where it is kept."""
    return file_of_preferences().with_name("letterhead.json")


def load_letterhead() -> Letterhead:
    """The kept one; an empty one where there is none or it makes no sense."""
    try:
        data = json.loads(file_of_letterhead().read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return Letterhead()
    if not isinstance(data, dict):
        return Letterhead()
    order = data.get("order")
    return Letterhead(
        str(data.get("logo", "")),
        str(data.get("address", "")),
        tuple(str(key) for key in order) if isinstance(order, list) else (),
    )


def save_letterhead(letterhead: Letterhead) -> None:
    """Keeps it, whole or not at all. Raises OSError."""
    path = file_of_letterhead()
    path.parent.mkdir(parents=True, exist_ok=True)
    part = path.with_name(path.name + ".part")
    part.write_text(json.dumps(asdict(letterhead), indent=1), encoding="utf-8")
    part.replace(path)


def with_logo(letterhead: Letterhead, path: Path | None) -> Letterhead:
    """With a PNG or JPEG as logo, or without one. Raises YaffleError."""
    if path is None:
        return replace(letterhead, logo="")
    kind = _KINDS.get(path.suffix.lower())
    if kind is None:
        raise YaffleError(f"{path}: a logo is a PNG or a JPEG")
    try:
        data = path.read_bytes() if path.stat().st_size <= _MOST_BYTES else b""
    except OSError as error:
        raise YaffleError(f"{path}: {error.strerror or error}") from error
    if not data.startswith(_BEGINNINGS[kind]):
        raise YaffleError(f"{path}: is no {path.suffix[1:].upper()} of at most 1 MiB")
    return replace(letterhead, logo=f"data:{kind};base64,{base64.b64encode(data).decode()}")
