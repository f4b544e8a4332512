"""What this host's kernel counts, by our names: where it stands, its unit, and what it means.

Meanings are the kernel's (Documentation/networking/snmp_counter.rst, Documentation/filesystems/proc.rst,
Documentation/accounting/psi.rst) and those of RFC 4293, 4022, 4113 and 4884 for the counters of IP, TCP, UDP and ICMP.
"""

from yaffle.records.measure import NOW, TOTAL, Measure


def _snmp(name: str, kernel: str, unit: str, words: str, kind: str = TOTAL) -> Measure:
    return Measure(name, "net/snmp", kernel, unit, kind, words)


def _ext(name: str, kernel: str, unit: str, words: str) -> Measure:
    return Measure(name, "net/netstat", kernel, unit, TOTAL, words)


def _six(name: str, kernel: str, unit: str, words: str) -> Measure:
    return Measure(name, "net/snmp6", kernel, unit, TOTAL, words)


_IP = (
    _snmp("ip received", "Ip.InReceives", "packets", "packets that came in"),
    _snmp("ip sent", "Ip.OutRequests", "packets", "packets that this host sent"),
    _snmp("ip forwarded", "Ip.ForwDatagrams", "packets", "packets that were passed on"),
    _snmp("ip header errors", "Ip.InHdrErrors", "packets", "dropped for a broken header"),
    _snmp("ip address errors", "Ip.InAddrErrors", "packets", "dropped because they were for nobody here"),
    _snmp("ip in discards", "Ip.InDiscards", "packets", "dropped on their way in for want of room"),
    _snmp("ip out discards", "Ip.OutDiscards", "packets", "dropped on their way out for want of room"),
    _snmp("ip no routes", "Ip.OutNoRoutes", "packets", "dropped because no route leads there"),
    _snmp("ip reassembly fails", "Ip.ReasmFails", "packets", "fragments of which others never came"),
    _snmp("ip fragments created", "Ip.FragCreates", "packets", "fragments that were made"),
    _ext("ip checksum errors", "IpExt.InCsumErrors", "packets", "dropped for a wrong checksum"),
    _ext("ip congestion marks", "IpExt.InCEPkts", "packets", "came in marked by a full queue on their way (ECN)"),
)
_TCP = (
    _snmp("tcp active opens", "Tcp.ActiveOpens", "connections", "opened from here"),
    _snmp("tcp passive opens", "Tcp.PassiveOpens", "connections", "opened from elsewhere"),
    _snmp("tcp attempt fails", "Tcp.AttemptFails", "connections", "openings that failed"),
    _snmp("tcp resets of connections", "Tcp.EstabResets", "connections", "established ones that were reset"),
    _snmp("tcp established", "Tcp.CurrEstab", "connections", "established now", NOW),
    _snmp("tcp in segments", "Tcp.InSegs", "segments", "segments that came in"),
    _snmp("tcp out segments", "Tcp.OutSegs", "segments", "segments sent, retransmissions not counted"),
    _snmp("tcp retrans segments", "Tcp.RetransSegs", "segments", "retransmitted segments"),
    _snmp("tcp in errors", "Tcp.InErrs", "segments", "segments that were broken"),
    _snmp("tcp resets sent", "Tcp.OutRsts", "segments", "segments that reset something"),
    _snmp("tcp checksum errors", "Tcp.InCsumErrors", "segments", "segments with a wrong checksum"),
    _ext("tcp timeouts", "TcpExt.TCPTimeouts", "timeouts", "times that a sender waited in vain (RTO)"),
    _ext("tcp syn retrans", "TcpExt.TCPSynRetrans", "segments", "retransmitted SYNs and SYN-ACKs"),
    _ext("tcp fast retrans", "TcpExt.TCPFastRetrans", "segments", "fast retransmissions"),
    _ext("tcp lost retrans", "TcpExt.TCPLostRetransmit", "segments", "retransmissions that were lost again"),
    _ext("tcp loss probes", "TcpExt.TCPLossProbes", "segments", "tail loss probes (RFC 8985)"),
    _ext("tcp spurious timeouts", "TcpExt.TCPSpuriousRTOs", "timeouts", "timeouts that were none (RFC 5682)"),
    _ext("tcp listen overflows", "TcpExt.ListenOverflows", "connections", "openings turned away: a program took none"),
    _ext("tcp listen drops", "TcpExt.ListenDrops", "connections", "openings dropped, for whatever reason"),
    _ext("tcp backlog drops", "TcpExt.TCPBacklogDrop", "segments", "dropped because a program held its socket"),
    _ext("tcp receive queue drops", "TcpExt.TCPRcvQDrop", "segments", "dropped because a program did not read"),
    _ext("tcp zero window drops", "TcpExt.TCPZeroWindowDrop", "segments", "dropped because no room had been offered"),
    _ext("tcp out of order queued", "TcpExt.TCPOFOQueue", "segments", "came before one that was sent earlier"),
    _ext("tcp aborts on memory", "TcpExt.TCPAbortOnMemory", "connections", "given up for want of memory"),
    _ext("tcp aborts on timeout", "TcpExt.TCPAbortOnTimeout", "connections", "given up after the last timeout"),
)
_UDP = (
    _snmp("udp received", "Udp.InDatagrams", "datagrams", "handed to programs"),
    _snmp("udp sent", "Udp.OutDatagrams", "datagrams", "sent"),
    _snmp("udp no ports", "Udp.NoPorts", "datagrams", "came for a port that nobody had"),
    _snmp("udp receive buffer errors", "Udp.RcvbufErrors", "datagrams", "dropped because a program did not read"),
    _snmp("udp send buffer errors", "Udp.SndbufErrors", "datagrams", "not sent for want of room"),
    _snmp("udp checksum errors", "Udp.InCsumErrors", "datagrams", "dropped for a wrong checksum"),
)
_ICMP = (
    _snmp("icmp received", "Icmp.InMsgs", "messages", "messages that came in"),
    _snmp("icmp sent", "Icmp.OutMsgs", "messages", "messages sent"),
    _snmp("icmp unreachable received", "Icmp.InDestUnreachs", "messages", "said that something cannot be reached"),
    _snmp("icmp time exceeded received", "Icmp.InTimeExcds", "messages", "said that a packet went round in circles"),
)
_SIX = (
    _six("ip received", "Ip6InReceives", "packets", "packets that came in"),
    _six("ip sent", "Ip6OutRequests", "packets", "packets that this host sent"),
    _six("ip header errors", "Ip6InHdrErrors", "packets", "dropped for a broken header"),
    _six("ip in discards", "Ip6InDiscards", "packets", "dropped on their way in for want of room"),
    _six("ip out discards", "Ip6OutDiscards", "packets", "dropped on their way out for want of room"),
    _six("ip no routes", "Ip6OutNoRoutes", "packets", "dropped because no route leads there"),
    _six("ip reassembly fails", "Ip6ReasmFails", "packets", "fragments of which others never came"),
    _six("udp received", "Udp6InDatagrams", "datagrams", "handed to programs"),
    _six("udp sent", "Udp6OutDatagrams", "datagrams", "sent"),
    _six("udp no ports", "Udp6NoPorts", "datagrams", "came for a port that nobody had"),
    _six("udp receive buffer errors", "Udp6RcvbufErrors", "datagrams", "dropped because a program did not read"),
    _six("udp checksum errors", "Udp6InCsumErrors", "datagrams", "dropped for a wrong checksum"),
    _six("icmp received", "Icmp6InMsgs", "messages", "messages that came in"),
    _six("icmp sent", "Icmp6OutMsgs", "messages", "messages sent"),
    _six("icmp unreachable received", "Icmp6InDestUnreachs", "messages", "said that something cannot be reached"),
)
_SYSTEM = (
    Measure("uptime", "uptime", "", "s", NOW, "since the host was started"),
    Measure("memory available", "meminfo", "MemAvailable", "bytes", NOW, "memory that programs can have"),
    Measure("memory total", "meminfo", "MemTotal", "bytes", NOW, "memory there is"),
    Measure("cpu waiting", "pressure/cpu", "some", "s", TOTAL, "time in which some task waited for a processor"),
    Measure("memory waiting", "pressure/memory", "some", "s", TOTAL, "time in which some task waited for memory"),
    Measure("disk waiting", "pressure/io", "some", "s", TOTAL, "time in which some task waited for a disk"),
)
# Of each processor, under its name as object.
_CPU_TIMES = ("user", "nice", "system", "idle", "iowait", "irq", "softirq", "steal")
_CPU = tuple(
    Measure(f"cpu {name}", "stat", name, "s", TOTAL, words)
    for name, words in zip(
        _CPU_TIMES,
        (
            "time in programs",
            "time in programs that give way to others",
            "time in the kernel for programs",
            "time without work",
            "time without work while a disk was waited for",
            "time in interrupts",
            "time in soft interrupts, where packets are worked on",
            "time that other guests of the machine took",
        ),
        strict=True,
    )
)
_PER_CPU = (
    Measure("interrupts", "interrupts", "", "interrupts", TOTAL, "interrupts of devices and of the processor"),
    Measure("soft interrupts net rx", "softirqs", "NET_RX", "times", TOTAL, "begins to work on packets received"),
    Measure("soft interrupts net tx", "softirqs", "NET_TX", "times", TOTAL, "begins to work on packets sent"),
    Measure("softnet packets", "net/softnet_stat", "0", "packets", TOTAL, "packets worked on"),
    Measure("softnet drops", "net/softnet_stat", "1", "packets", TOTAL, "dropped because too many waited"),
    Measure("softnet squeezes", "net/softnet_stat", "2", "times", TOTAL, "ended while packets still waited"),
)

# Of each wireless interface, under its name as object.
RADIO = (
    Measure("radio link quality", "net/wireless", "2", "", NOW, "as its driver judges it; 70 is the best of many"),
    Measure("radio signal", "net/wireless", "3", "dBm", NOW, "how strongly the access point is heard"),
    Measure("radio noise", "net/wireless", "4", "dBm", NOW, "how strong everything else is"),
    Measure("radio discarded retries", "net/wireless", "8", "packets", TOTAL, "given up after all repeats"),
    Measure(
        "radio missed beacons", "net/wireless", "10", "beacons", TOTAL, "that the access point sent and were not heard"
    ),
)

# The same by nl80211, where the driver tells them.
RADIO_LINK = (
    Measure("radio link signal", "nl80211", "SIGNAL_AVG", "dBm", NOW, "how strongly the access point is heard, mean"),
    Measure("radio transmit rate", "nl80211", "TX_BITRATE", "Mbit/s", NOW, "of the last frame that was sent"),
    Measure("radio receive rate", "nl80211", "RX_BITRATE", "Mbit/s", NOW, "of the last frame that was received"),
    Measure("radio packets sent", "nl80211", "TX_PACKETS", "packets", TOTAL, "to the access point"),
    Measure("radio retries", "nl80211", "TX_RETRIES", "frames", TOTAL, "frames that were sent again"),
    Measure("radio failed packets", "nl80211", "TX_FAILED", "packets", TOTAL, "that no repeat brought over"),
    Measure("radio lost beacons", "nl80211", "BEACON_LOSS", "times", TOTAL, "that no beacon came for long"),
)

IPV4, IPV6 = "IPv4", "IPv6"
BY_VERSION = {IPV4: (*_IP, *_UDP, *_ICMP), IPV6: _SIX}
OF_HOST = (*_TCP, *_SYSTEM)
OF_CPU = (*_CPU, *_PER_CPU)
OF_HOSTS = (*_IP, *_UDP, *_ICMP, *OF_HOST, *OF_CPU, *RADIO, *RADIO_LINK)  # of both versions by the same names


def cpu_time(name: str) -> int:
    """The column of a time of /proc/stat."""
    return _CPU_TIMES.index(name)
