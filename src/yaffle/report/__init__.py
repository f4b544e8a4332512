"""Results for others: the analysis document, the report."""
