"""The user's own names of applications: by server, by port, or both."""

import ipaddress

from PySide6.QtWidgets import QWidget

from yaffle.desktop.shared.list_dialog import ListDialog
from yaffle.inventory.places import Rule


class NamingDialog(ListDialog):
    """`rules` is what was entered when it is accepted; the first that fits counts."""

    def __init__(
        self, rules: tuple[Rule, ...], application: str, server: str, port: int, parent: QWidget | None = None
    ) -> None:
        words = "What runs at a server or port is called so everywhere in this case. The first line that fits counts."
        super().__init__(
            "Names of applications",
            words,
            ["name", "server (empty: any)", "port (empty: any)", "host name (empty: any)"],
            560,
            parent,
        )
        self.rules = rules
        if server or port:
            self.add(Rule(application, server, port))
        elif application.startswith("port ") and application[5:].isdigit():
            self.add(Rule(application, port=int(application[5:])))
        elif "." in application:
            self.add(Rule(application, host=application))
        for rule in rules:
            self.add(rule)

    def add(self, rule: Rule) -> None:
        """One line more."""
        self.add_line([rule.name, rule.server, str(rule.port or ""), rule.host])

    def take(self) -> None:
        found = []
        for number, (name, server, port, host) in self.lines():
            if not name:
                raise ValueError(f"line {number} has no name")
            if server:
                try:
                    server = str(ipaddress.ip_address(server))
                except ValueError:
                    raise ValueError(f"“{server}” is not an address") from None
            if port and not (port.isdigit() and 0 < int(port) < 65536):
                raise ValueError(f"“{port}” is not a port: 1 to 65535")
            if not (server or port or host):
                raise ValueError(f"“{name}” needs a server, a port or a host name")
            found.append(Rule(name, server, int(port or 0), host.lower()))
        self.rules = tuple(found)
