"""Many texts in two arrays, as Arrow keeps them: a tenth of the memory of so many strings, and mapped from a case."""

import itertools
from collections.abc import Iterable, Iterator, Sequence
from typing import overload

import numpy as np

from yaffle.arrays import Array

_AT_ONCE = 1 << 14  # Texts that are turned into strings in one go.


class Texts(Sequence[str]):
    """Texts by number.

    starts: int64 (n + 1), where each begins; octets: uint8, all in UTF-8. Raises ValueError where starts are out of
    order or lead outside.
    """

    def __init__(self, starts: Array, octets: Array) -> None:
        if starts.size < 1 or starts[0] < 0 or int(starts[-1]) > octets.size or (np.diff(starts) < 0).any():
            raise ValueError("texts point outside their table")
        self.starts, self.octets = starts, octets

    @classmethod
    def of(cls, texts: Iterable[str]) -> "Texts":
        """These texts. What UTF-8 cannot say is written as an escape."""
        encoded = [text.encode(errors="backslashreplace") for text in texts]
        starts = np.zeros(len(encoded) + 1, np.int64)
        np.cumsum([len(text) for text in encoded], out=starts[1:])
        return cls(starts, np.frombuffer(b"".join(encoded), np.uint8))

    @classmethod
    def held(cls, texts: Sequence[str]) -> "Texts":
        """The same texts, held like this."""
        return texts if isinstance(texts, Texts) else cls.of(texts)

    @classmethod
    def joined(cls, parts: Sequence["Texts"]) -> "Texts":
        """All of them, one after another."""
        if len(parts) == 1:
            return parts[0]
        sizes = [np.diff(part.starts) for part in parts]
        starts = np.concatenate([np.zeros(1, np.int64), *sizes]).cumsum()
        own = [part.octets[int(part.starts[0]) : int(part.starts[-1])] for part in parts]
        return cls(starts, np.concatenate([np.empty(0, np.uint8), *own]))

    @property
    def nbytes(self) -> int:
        """Bytes in memory."""
        return self.starts.nbytes + self.octets.nbytes

    def __len__(self) -> int:
        return self.starts.size - 1

    @overload
    def __getitem__(self, place: int) -> str: ...

    @overload
    def __getitem__(self, place: slice) -> "Texts": ...

    def __getitem__(self, place: "int | slice") -> "str | Texts":
        if isinstance(place, slice):
            begin, end, step = place.indices(len(self))
            if step != 1:
                return Texts.of(self[k] for k in range(begin, end, step))
            return Texts(self.starts[begin : max(begin, end) + 1], self.octets)
        if place < 0:
            place += len(self)
        if not 0 <= place < len(self):
            raise IndexError(place)
        return str(self.octets[self.starts[place] : self.starts[place + 1]].tobytes(), errors="replace")

    def __iter__(self) -> Iterator[str]:
        for begin in range(0, len(self), _AT_ONCE):
            places = self.starts[begin : begin + _AT_ONCE + 1].tolist()
            base = places[0]
            octets = self.octets[base : places[-1]].tobytes()
            for first, last in itertools.pairwise(places):
                yield str(octets[first - base : last - base], errors="replace")

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Sequence):
            return NotImplemented
        return len(self) == len(other) and all(one == two for one, two in zip(self, other, strict=True))

    __hash__ = None  # type: ignore[assignment]


def no_texts() -> Texts:
    """None at all."""
    return Texts.of(())
