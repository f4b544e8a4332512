"""The same packets at several points: matched, their clocks aligned, and what each segment of the path did to them."""
