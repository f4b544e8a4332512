"""What is normal, and what changed: baselines that learn, comparisons, extent."""
