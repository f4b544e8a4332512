"""Flow records and counters as exporters send them: messages to columns. Knows packets only through `capture`."""
