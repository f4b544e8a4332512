"""How many requests are under way at a moment, by its definition."""


def under_way(begins, ends, moment):
    """Requests that came at the moment or before, and were not answered before it."""
    return sum(1 for begin in begins if begin <= moment) - sum(1 for end in ends if end < moment)
