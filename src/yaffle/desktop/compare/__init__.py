"""Compare: with the baseline, and one period with another."""
