"""From charges to sentences: the verdict of a connection, and findings that group many with one cause."""
