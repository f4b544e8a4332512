"""The user's own names of address ranges: sites."""

from PySide6.QtWidgets import QWidget

from yaffle.desktop.shared.list_dialog import ListDialog
from yaffle.inventory.places import Site


class SitesDialog(ListDialog):
    """`sites` is what was entered when it is accepted; the narrowest range that holds an address counts."""

    def __init__(self, sites: tuple[Site, ...], parent: QWidget | None = None) -> None:
        words = (
            "Hosts in a range belong to its site everywhere in this case; several ranges may have one name."
            " Access points belong to the site for which the beginning of their addresses stands here, as 02:4a:00."
        )
        super().__init__("Sites", words, ["name", "range, as 198.51.100.0/24"], 460, parent)
        self.sites = sites
        for site in sites:
            self.add(site)

    def add(self, site: Site) -> None:
        """One line more."""
        self.add_line([site.name, site.network])

    def take(self) -> None:
        found = []
        for number, (name, network) in self.lines():
            if not name:
                raise ValueError(f"line {number} has no name")
            site = Site(name, network)
            try:
                _ = site.range
            except ValueError:
                raise ValueError(
                    f"“{network}” is not a range of addresses: write for example 198.51.100.0/24, or 02:4a:00"
                    " for access points"
                ) from None
            found.append(site)
        self.sites = tuple(found)
