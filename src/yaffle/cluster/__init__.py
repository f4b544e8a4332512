"""An analysis on many machines: files are read and parts accounted for by the workers of a distributed engine."""
