"""What was asked, for people: values masked in statements, so that nothing private is shown unasked and like falls to
like.
"""

import re

STATEMENTS = ("postgresql", "mysql")
MASKED = (*STATEMENTS, "ldap")  # protocols whose labels hold values of the users
_TEXT = re.compile(r"'(?:[^'\\]|''|\\.)*'?|\$(\w*)\$.*?\$\1\$")
_NUMBER = re.compile(r"(?<![\w$.])-?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?(?![\w.])")
_LIST = re.compile(r"\(\s*\?(?:\s*,\s*\?)+\s*\)")
_VALUE = re.compile(r"=[^&#]*")
_ASSERTED = re.compile(r"(\([^()=<>~]+(?:[<>~]?=))(?!\*\))[^()]*")
_DIGITS = re.compile(r"\d+")


def shown(protocol: str, label: str) -> str:
    """A label without the literals of a statement."""
    if protocol == "ldap":
        return _ASSERTED.sub(r"\1?", label)
    if protocol not in STATEMENTS:
        return label
    return _LIST.sub("(?, …)", _NUMBER.sub("?", _TEXT.sub("?", label)))


def grouped(protocol: str, label: str) -> str:
    """A label under which exchanges of one kind fall together: without literals, values of queries, numbers in keys
    and paths.
    """
    if protocol in MASKED:
        return shown(protocol, label)
    if protocol in ("http", "http2"):
        path, mark, query = label.partition("?")
        return _DIGITS.sub("#", path) + mark + _VALUE.sub("=…", query)
    return _DIGITS.sub("#", label)
