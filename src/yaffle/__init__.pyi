from yaffle.programs.case import Case as Case
from yaffle.programs.case import analyse as analyse
from yaffle.programs.case import open as open

__version__: str
