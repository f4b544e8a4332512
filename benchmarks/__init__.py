"""Benchmarks: each prints ratios to a checksum of the same file, measured in the same run."""
