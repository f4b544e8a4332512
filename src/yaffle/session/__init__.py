"""What is open, chosen and computed for the screen. Still no interface code: all of it is tested alone."""
