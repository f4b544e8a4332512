"""The demo: a seeded simulation of a morning at Harbourline Ferries, so that the truth is known to the microsecond."""
