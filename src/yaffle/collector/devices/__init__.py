"""What devices tell when they are asked: by SNMP their counters, health, addresses and neighbours; by SSH texts."""
