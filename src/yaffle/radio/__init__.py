"""What a radio heard (IEEE 802.11): access points, stations, how well they were heard, moves, failures."""
