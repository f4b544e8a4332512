"""How a voice stream may have sounded: the E-model (ITU-T G.107) with its default values, codecs by ITU-T G.113.

R = 93.2 - Id - Ie,eff. Id is the impairment by delay, Ie,eff that by the codec and by what was lost or came too late to
be played: Ie + (95 - Ie) Ppl / (Ppl / BurstR + Bpl). It is an estimate of transmission alone: neither room, nor
terminals, nor echo.
"""

import math
from dataclasses import dataclass

# The buffer that a receiver is taken to have: what comes later than this after the quickest is not played.
PLAYED_AFTER_NS = 60_000_000
HEARD_NS = 40_000_000  # A gap this long is heard.
_DEFAULT_R = 93.2
# Payload type, or name in a session description: name, Ie, Bpl (G.113 appendix I; G.711 with concealment of losses).
CODECS = {
    0: ("G.711", 0.0, 25.1),
    8: ("G.711", 0.0, 25.1),
    3: ("GSM full rate", 20.0, 43.0),
    4: ("G.723.1", 15.0, 16.1),
    18: ("G.729", 11.0, 19.0),
}
_BY_NAME = {"pcmu": 0, "pcma": 8, "gsm": 3, "g723": 4, "g729": 18, "g.711": 0, "g.729": 18, "g.723.1": 4}
_ASSUMED_MS = 100.0  # mouth to ear, where no second point tells the network's part


@dataclass(frozen=True)
class VoiceEstimate:
    """R from 0 to 100, and the mean opinion score it stands for (G.107 annex B)."""

    r: float
    mos: float
    assumptions: str


def delay_impairment(mouth_to_ear_ms: float) -> float:
    """Id of G.107 (equation 7-27), by absolute delay alone."""
    if mouth_to_ear_ms <= 100:
        return 0.0
    x = math.log10(mouth_to_ear_ms / 100) / math.log10(2)
    return float(25 * ((1 + x**6) ** (1 / 6) - 3 * (1 + (x / 3) ** 6) ** (1 / 6) + 2))


def opinion_score(r: float) -> float:
    """Mean opinion score of an R (G.107 annex B)."""
    if r <= 0:
        return 1.0
    if r >= 100:
        return 4.5
    return 1 + 0.035 * r + r * (r - 60) * (100 - r) * 7e-6


def estimate(
    payload_type: int, missing: float, burst_ratio: float, network_ms: float | None, codec: str = ""
) -> VoiceEstimate | None:
    """The estimate of a stream; None where its codec is not known.

    missing: share of its packets that were lost or came too late; burst_ratio: mean length of its losses to that of
    random ones (G.107: BurstR, at least 1); network_ms: one-way delay of the network, None where no second point tells
    it.
    """
    payload_type = _BY_NAME.get(codec.lower(), payload_type)
    if payload_type not in CODECS:
        return None
    name, ie, bpl = CODECS[payload_type]
    ppl = 100 * missing
    effective = ie + (95 - ie) * ppl / (ppl / max(1.0, burst_ratio) + bpl) if ppl > 0 else ie
    delay_ms = _ASSUMED_MS if network_ms is None else network_ms + PLAYED_AFTER_NS / 1e6 + 20
    r = _DEFAULT_R - delay_impairment(delay_ms) - effective
    told = (
        "100 ms assumed"
        if network_ms is None
        else f"{network_ms:.1f} ms measured, with 20 ms of packets and a buffer of 60 ms"
    )
    return VoiceEstimate(r, opinion_score(r), f"{name} with losses concealed, delay {told}, no echo, default terminals")
