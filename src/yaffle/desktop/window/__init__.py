"""The frame around the stations: strip, focus line, drawer, dialogs, exports, receiving."""
