"""What the network's own devices tell of single packets: IOAM traces in them, INT reports about them."""
