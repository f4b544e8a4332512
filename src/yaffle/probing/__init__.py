"""Tests on purpose: what is asked, how it is judged, and who answers."""
