"""What a period was like, against those before it: traffic, waits, service levels, what happened; as pages."""
