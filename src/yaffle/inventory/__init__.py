"""What the user and the evidence know of the network: names of hosts, sites and applications, expected markings."""
