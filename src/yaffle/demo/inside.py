"""What the network itself tells of the demo's morning: switches of packets, a radio of the pier, a ramp's drives."""

from pathlib import Path

from yaffle.demo.leaf_switches import make_leaf_switches
from yaffle.demo.linkspan import make_linkspan
from yaffle.demo.pier_air import make_pier_air


def make_inside(folder: Path) -> list[Path]:
    """Writes the captures, unless they are there."""
    folder.mkdir(parents=True, exist_ok=True)
    found = [(folder / "leaf-switches.pcapng", make_leaf_switches), (folder / "pier-air.pcapng", make_pier_air),
             (folder / "linkspan.pcapng", make_linkspan)]  # fmt: skip
    return [path if path.exists() else make(path) for path, make in found]
