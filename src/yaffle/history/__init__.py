"""Months of flow records and counters on disk: written as they come, kept small, asked by period."""
