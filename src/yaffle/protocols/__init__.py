"""Application protocols: bytes to messages. Knows nothing of packets; lengths are checked before they are believed."""
