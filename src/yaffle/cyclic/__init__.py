"""Streams with a steady period, on the wire and on the air: what the period is, which cycles were missed or late."""
