"""Watch: what is watched, what was told of it, what was done, and whether it helped."""
