"""A figure of a report: vectors, what they show in words, one sentence that says what to see."""

import base64
import re
from dataclasses import dataclass, replace

from markupsafe import Markup, escape

from yaffle.capture.masking import Masker
from yaffle.report.nameless import masked

_CUT = re.compile(r"(<text\b[^>]*>)([^<]*…[^<]*)(</text>)")


@dataclass(frozen=True)
class Figure:
    """svg: a whole SVG. alt: the same for those who cannot see it. sentence: what to see."""

    svg: str
    alt: str
    sentence: str

    def masked(self, masker: Masker) -> "Figure":
        """With addresses masked; texts that were shortened are left out, for a part of an address cannot be masked."""
        return replace(
            self,
            svg=masked(_CUT.sub(r"\1…\3", self.svg), masker),
            alt=masked(self.alt, masker),
            sentence=masked(self.sentence, masker),
        )

    def inline(self) -> Markup:
        """The figure as part of a page, told to those who cannot see it."""
        data = base64.b64encode(self.svg.encode()).decode()
        return Markup('<img src="data:image/svg+xml;base64,{}" alt="{}">').format(data, self.alt)


def told(text: str) -> Markup:
    """Text with its lines kept."""
    return Markup("<br>").join(escape(line) for line in text.splitlines())
