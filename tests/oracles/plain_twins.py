"""Slow plain twins of kernels: the same answers in a few lines of Python, for small inputs."""

from collections import Counter, defaultdict


def plain_conversations(packets):
    """packets: (protocol, (address, port), (address, port), flags, seq). The conversation of each, and whether its
    first end sent it.

    A SYN with another number opens the next conversation, once its side or the whole has had one before.
    """
    latest, state, found, count = {}, {}, [], 0
    for protocol, src, dst, flags, seq in packets:
        key = (protocol, *sorted((src, dst)))
        row = latest.get(key)
        fresh = row is None
        if not fresh and protocol == 6 and flags & 0x16 == 2:
            own, other, closed, first = (
                state[row]["syn"].get(src),
                state[row]["syn"].get(dst),
                state[row]["closed"],
                state[row]["first"],
            )
            if own is not None:
                fresh = own != seq
            elif other is not None:
                fresh = closed
            else:
                fresh = True
            del first
        if fresh:
            row, count = count, count + 1
            latest[key], state[row] = row, {"syn": {}, "closed": False, "first": src}
        if protocol == 6:
            if flags & 0x12 == 2:
                state[row]["syn"][src] = seq
            if flags & 5:
                state[row]["closed"] = True
        found.append((row, state[row]["first"] == src))
    return found


def plain_turns(segments):
    """segments: (side, first byte, bytes). Exchanges as (bytes asked, bytes answered)."""
    turns, high, answered = [], [None, None], True
    for side, first, size in segments:
        end = first + size
        fresh = size if high[side] is None else max(0, end - max(high[side], first))
        high[side] = end if high[side] is None else max(high[side], end)
        if not fresh:
            continue
        if side == 0:
            if answered or not turns:
                turns.append([0, 0])
                answered = False
            turns[-1][0] += fresh
        elif turns:
            turns[-1][1] += fresh
            answered = True
    return [tuple(t) for t in turns]


def plain_bursts(times_ns, octets, first_ns, last_ns, span_ns):
    """Highest bit/s over a sliding window of whole milliseconds."""
    slots = Counter()
    for t, size in zip(times_ns, octets, strict=True):
        slots[(t - first_ns) // 1_000_000] += size
    total = (last_ns - first_ns) // 1_000_000 + 1
    width = max(1, min(total, span_ns // 1_000_000))
    best = max(sum(slots[k] for k in range(start, start + width)) for start in range(max(1, total - width + 1)))
    return best * 8e9 / (width * 1_000_000)


def plain_answers(packets):
    """packets: (time, side). Times to the answer, tries, and whether the last question is open."""
    pending, latencies, tries = None, [], 0
    for t, side in packets:
        if side == 0:
            tries += 1
            pending = t if pending is None else pending
        elif pending is not None:
            latencies.append(t - pending)
            pending = None
    return latencies, tries, pending is not None


def plain_party_sums(charges, parties):
    """charges: rows of columns; parties: the party of each column. Sums by party, a row each."""
    found = []
    for row in charges:
        sums = defaultdict(int)
        for value, party in zip(row, parties, strict=True):
            sums[party] += value
        found.append([sums[p] for p in range(4)])
    return found
