"""Exchanges: one request and its answer on a connection, found by turns or by the protocol's own messages."""
