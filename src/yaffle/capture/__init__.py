"""From bytes to packet columns: container formats, headers, and the conversation each packet belongs to."""
