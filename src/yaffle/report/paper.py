"""A page as PDF: paginated, fonts embedded, nothing fetched."""

import io
from pathlib import Path
from typing import Any

from yaffle.errors import YaffleError

_NEEDED = "A PDF needs the system library Pango (on Debian: apt-get install libpango-1.0-0 libpangoft2-1.0-0)"


def pdf_of(page: str) -> bytes:
    """The PDF. Raises YaffleError where the library that lays it out cannot be loaded."""
    try:
        import weasyprint
    except OSError as error:
        raise YaffleError(f"{_NEEDED}; HTML can be written without ({error})") from error
    out = io.BytesIO()
    weasyprint.HTML(string=page, url_fetcher=_nothing_from_elsewhere()).write_pdf(out, pdf_variant="pdf/ua-1")
    return out.getvalue()


def _nothing_from_elsewhere() -> Any:
    from weasyprint.urls import URLFetcher

    return URLFetcher(allowed_protocols=("data",))


def write_pdf(page: str, path: Path) -> Path:
    """Writes it, whole or not at all. Raises YaffleError."""
    part = path.with_name(path.name + ".part")
    try:
        part.write_bytes(pdf_of(page))
        part.replace(path)
    except OSError as error:
        raise YaffleError(f"{path}: cannot be written ({error.strerror or error})") from error
    finally:
        part.unlink(missing_ok=True)
    return path
