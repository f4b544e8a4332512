"""What leaves its limit or what is usual: noticed, told, answered, and whether the answer helped."""
