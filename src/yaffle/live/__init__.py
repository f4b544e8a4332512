"""Captures packets on this machine: a packet socket, filters for it, and a bounded ring of files."""
