"""Apportion: whose delay it is."""
