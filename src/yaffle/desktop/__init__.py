"""The window. The only place that imports Qt; it keeps no data and computes nothing."""
