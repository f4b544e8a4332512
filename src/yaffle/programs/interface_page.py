"""docs/interface.md: the calls of the interface over HTTP, from its own description.

python -m yaffle.programs.interface_page > docs/interface.md
"""

from typing import Any

from yaffle.programs.web import described

_HEAD = """# HTTP

    yaffle serve CASE|HISTORY|CAPTURE... [--bind ADDRESS --port P --token-file FILE --tls-cert FILE --tls-key FILE]

Answers on 127.0.0.1 port 8621 until stopped. `/openapi.json` describes every call, `/docs` shows it (nothing is
fetched from elsewhere). On another address only with a token: a file of mode 600 with one word of at least 16
characters, which everybody who asks bears as `Authorization: Bearer WORD`; without it there is no answer to anything.
Without a token only this machine is answered, by the names localhost, 127.0.0.1 and [::1].

Tables come as JSON, CSV, Parquet or an Arrow stream (`format`), piece by piece. Limits: 1,000,000 rows and 1 GiB of
packets an answer, 200,000 exchanges a document, 10,000 intervals a series, 64 kB a question, eight questions worked on
at once while others wait up to 30 s, 20 s a filter; who does not take what was asked for is let go after 30 s. Only
the two calls at the end do something.

    curl -s 'localhost:8621/v1/cases'
    curl -s 'localhost:8621/v1/cases/morning/tables/exchanges?filter=wait_ms>500&format=csv'
    curl -sN 'localhost:8621/v1/cases/history/events/stream'
"""


def page() -> str:
    """The page."""
    lines = [_HEAD]
    told = described({}).openapi()
    for path, ways in told["paths"].items():
        for way, call in ways.items():
            lines += [f"## {way.upper()} {path}", "", _first(call), ""]
            rows = [_row(one) for one in call.get("parameters", [])]
            if rows:
                lines += ["| parameter | in | default | meaning |", "|---|---|---|---|", *rows, ""]
            if body := call.get("requestBody"):
                lines += [_body(told, body), ""]
    return "\n".join(lines).rstrip() + "\n"


def _first(call: dict[str, Any]) -> str:
    return str(call.get("description", "")).strip().replace("\n", " ")


def _row(one: dict[str, Any]) -> str:
    schema = one.get("schema", {})
    usual = schema.get("default", "" if one.get("required") else "–")
    shown = f"`{usual}`" if usual not in ("", "–") else str(usual)
    return f"| `{one['name']}` | {one['in']} | {shown} | {one.get('description') or schema.get('description') or ''} |"


def _body(told: dict[str, Any], body: dict[str, Any]) -> str:
    name = next(iter(body["content"].values()))["schema"]["$ref"].rpartition("/")[2]
    fields = told["components"]["schemas"][name]["properties"]
    return "As JSON: " + ", ".join(
        f"`{key}`" + (f" ({one['default']})" if "default" in one and one["default"] != "" else "")
        for key, one in fields.items()
    )


if __name__ == "__main__":
    print(page(), end="")
