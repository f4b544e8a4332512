"""Pages of a PDF as images, as they will look."""

from dataclasses import dataclass

import numpy as np
import pypdfium2
from PySide6.QtGui import QImage

from yaffle.progress import Progress, go_on, step


@dataclass(frozen=True)
class PageImage:
    """One page. wide, high: in points of 1/72 inch."""

    image: QImage
    wide: float
    high: float


def page_images(pdf: bytes, scale: float, progress: Progress = go_on) -> list[PageImage]:
    """All pages at `scale` pixels a point. For any thread. Raises Cancelled."""
    document = pypdfium2.PdfDocument(pdf)
    found = []
    try:
        for number in range(len(document)):
            step(progress, number / len(document), "drawing pages")
            page = document[number]
            wide, high = page.get_size()
            pixels = np.ascontiguousarray(page.render(scale=scale).to_numpy())
            image = QImage(
                pixels.data, pixels.shape[1], pixels.shape[0], pixels.strides[0], QImage.Format.Format_BGR888
            )
            found.append(PageImage(image.copy(), wide, high))
            page.close()
    finally:
        document.close()
    return found


def places_of_headings(pdf: bytes) -> list[tuple[str, int, float]]:
    """Of each heading: its words, its page, how many points from the page's top."""
    document = pypdfium2.PdfDocument(pdf)
    found = []
    try:
        for mark in document.get_toc():
            target = mark.get_dest()
            number = target.get_index() if target is not None else None
            if target is None or number is None:
                continue
            _, place = target.get_view()
            high = document[number].get_size()[1]
            found.append((mark.get_title(), number, high - place[1] if len(place) > 1 and place[1] else 0.0))
    finally:
        document.close()
    return found
