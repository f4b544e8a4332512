"""What programs ask: evidence opened as a `Case`, its tables as Arrow, series, findings; and the same over HTTP."""
