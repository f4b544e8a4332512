"""What the network itself tells of the demo's morning: switches of packets, a radio of the pier, a ramp's drives."""

from pathlib import Path

from yaffle.demo.leaf_switches import make_leaf_switches
from yaffle.demo.linkspan import make_linkspan
from yaffle.demo.pier_air import make_pier_air, make_pier_uplink


def make_inside(folder: Path) -> list[Path]:
    """Writes the captures, unless they are there."""
    folder.mkdir(parents=True, exist_ok=True)
    found = [
        (folder / f"{name}.pcapng", make)
        for name, make in (
            ("leaf-switches", make_leaf_switches),
            ("pier-air", make_pier_air),
            ("pier-uplink", make_pier_uplink),
            ("linkspan", make_linkspan),
        )
    ]
    return [path if path.exists() else make(path) for path, make in found]
