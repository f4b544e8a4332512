"""What a connection did: its segments told apart, its round trips, its state; from packet columns alone."""
