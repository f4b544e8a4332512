"""What devices tell of themselves by SNMP, beside their interfaces' counters, by our names.

Meanings are those of the MIBs: SNMPv2-MIB (RFC 3418), HOST-RESOURCES-MIB (RFC 2790), ENTITY-SENSOR-MIB (RFC 3433),
EtherLike-MIB (RFC 3635).
"""

from yaffle.records.measure import NOW, TOTAL, Measure

UPTIME = Measure("uptime", "SNMPv2-MIB", "sysUpTime", "s", NOW, "since the device was started, or its agent")
PROCESSOR = Measure(
    "processor load", "HOST-RESOURCES-MIB", "hrProcessorLoad", "%", NOW, "CPU utilization, mean of the last minute"
)
STORAGE_USED = Measure("storage used", "HOST-RESOURCES-MIB", "hrStorageUsed", "bytes", NOW, "memory or disk in use")
STORAGE = Measure("storage total", "HOST-RESOURCES-MIB", "hrStorageSize", "bytes", NOW, "size of the memory or disk")
STATUS = Measure("interface status", "IF-MIB", "ifOperStatus", "status", NOW, "whether it is up: 1 up, 2 down")


def _ethernet(name: str, kernel: str, words: str, unit: str = "frames", kind: str = TOTAL) -> Measure:
    return Measure(name, "EtherLike-MIB", kernel, unit, kind, words)


# By the column of dot3StatsTable.
ETHERNET = {
    2: _ethernet(
        "alignment errors",
        "dot3StatsAlignmentErrors",
        "received with a wrong FCS, not a whole number of octets: cable or duplex mismatch",
    ),
    3: _ethernet(
        "fcs errors", "dot3StatsFCSErrors", "received with a wrong frame check sequence: cable or transceiver"
    ),
    8: _ethernet("late collisions", "dot3StatsLateCollisions", "late collisions: duplex mismatch"),
    9: _ethernet("excessive collisions", "dot3StatsExcessiveCollisions", "not transmitted after 16 collisions"),
    16: _ethernet("mac receive errors", "dot3StatsInternalMacReceiveErrors", "receive errors of the device itself"),
    19: _ethernet("duplex", "dot3StatsDuplexStatus", "2 half, 3 full, 1 unknown", "duplex", NOW),
}
_SENSOR_UNITS = {3: "V", 4: "V", 5: "A", 6: "W", 7: "Hz", 8: "°C", 9: "%", 10: "rpm", 11: "m³/min", 12: ""}
_SENSOR_NAMES = {
    3: "voltage", 4: "voltage", 5: "current", 6: "power", 7: "frequency", 8: "temperature", 9: "relative humidity",
    10: "fan speed", 11: "air flow", 12: "sensor state",
}  # fmt: skip
SENSORS = {
    kind: Measure(_SENSOR_NAMES[kind], "ENTITY-SENSOR-MIB", "entPhySensorValue", unit, NOW, "sensor reading")
    for kind, unit in _SENSOR_UNITS.items()
}
# What numbers mean that are none, by their unit.
STATES = {
    "status": {1: "up", 2: "down", 3: "testing", 4: "unknown", 5: "dormant", 6: "not present", 7: "lower layer down"},
    "duplex": {1: "unknown", 2: "half", 3: "full"},
}
OF_DEVICES = (UPTIME, PROCESSOR, STORAGE_USED, STORAGE, STATUS, *ETHERNET.values(), *SENSORS.values())
