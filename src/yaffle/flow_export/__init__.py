"""Flow records out of captures: what exporters sent past the point, and what the packets themselves add up to."""
