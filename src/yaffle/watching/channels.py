"""Ways by which notices go out: web hook, mail, syslog, the desktop. Each takes several events as one notice."""

import email.message
import email.policy
import email.utils
import hashlib
import hmac
import json
import os
import smtplib
import socket
import ssl
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

from yaffle.errors import YaffleError
from yaffle.watching.event_rows import CLEARED, Event
from yaffle.watching.event_words import at, command, heading
from yaffle.watching.states import UNKNOWN

WEBHOOK, MAIL, SYSLOG, DESKTOP = "webhook", "mail", "syslog", "desktop"
KINDS = (DESKTOP, WEBHOOK, MAIL, SYSLOG)
SCHEMES = {WEBHOOK: ("http", "https"), MAIL: ("smtp", "smtps"), SYSLOG: ("udp", "tcp", "tls"), DESKTOP: ()}
SIGNATURE, EVENT_HEADER = "X-Yaffle-Signature", "X-Yaffle-Event"
FORMAT, VERSION = "yaffle-notice", 1
_TIMEOUT_S = 10.0
_PORTS = {"smtp": 25, "smtps": 465, "udp": 514, "tcp": 601, "tls": 6514}  # RFC 5426, 6587, 5425
_DAEMON, _APP = 3, "yaffle"
_LEVELS = {"critical": 2, "warning": 4, "notice": 5}  # RFC 5424, section 6.2.1
_ENTERPRISE = 32473  # RFC 5612: the number for documentation, since there is none of ours
_LONGEST_DATAGRAM = 2048  # RFC 5424, section 6.1
_REASON, _LONGEST_HEADER = 200, 950


class NotSentError(YaffleError):
    """A notice that did not go out; the text says why."""


@dataclass(frozen=True)
class Channel:
    """One way. secret: signs web hooks, or is the password of the mail's user; history: what a notice opens."""

    name: str
    kind: str
    url: str = ""
    sender: str = ""
    to: tuple[str, ...] = ()
    user: str = ""
    secret: str = field(default="", repr=False)
    template: str = ""  # of a web hook's body, where it is not ours
    severities: tuple[str, ...] = ()  # empty: all
    subjects: str = ""  # a regular expression; empty: all
    hours: tuple[int, int] | None = None  # from and to, minutes of the day (UTC)
    days: tuple[int, ...] = ()  # of the week, 0 Monday; empty: all
    most_per_minute: int = 30
    history: str = ""

    def send(self, events: list[Event], more: int = 0) -> str:
        """Sends some events as one notice; what was answered. more: that are only counted. Raises NotSentError."""
        try:
            return {WEBHOOK: _webhook, MAIL: _mail, SYSLOG: _syslog, DESKTOP: _desktop}[self.kind](self, events, more)
        except (OSError, smtplib.SMTPException) as error:
            reason = getattr(error, "strerror", None) or str(error) or type(error).__name__
            raise NotSentError(str(reason)[:_REASON]) from error


def document(channel: Channel, events: list[Event], more: int) -> dict[str, Any]:
    """The machine-readable form. Of one event its keys stand at the top, too."""
    told = {"format": FORMAT, "version": VERSION, "channel": channel.name, "events": [one.as_json() for one in events],
            "more": more, "title": subject_of(events, more), "open": command(channel.history, events[0])}  # fmt: skip
    return events[0].as_json() | told if len(events) == 1 else told


def subject_of(events: list[Event], more: int) -> str:
    """A notice in a line."""
    if len(events) == 1 and not more:
        return heading(events[0])
    watches = list(dict.fromkeys(one.watch for one in events))
    over = sum(one.state == CLEARED for one in events)
    turns = f"{len(events) + more} changes" + (f", {over} of them over" if over else "")
    return f"{turns}: {', '.join(watches[:3])}" + (f" and {len(watches) - 3} more" if len(watches) > 3 else "")


def body_of(channel: Channel, events: list[Event], more: int) -> str:
    """A notice for people."""
    lines = []
    for one in events:
        lines += [heading(one), f"  {one.words}", f"  at {at(one.time_ns)}", ""]
    if more:
        lines += [f"and {more} more", ""]
    return "\n".join([*lines, f"To look at it: {command(channel.history, events[0])}", ""])


def _webhook(channel: Channel, events: list[Event], more: int) -> str:
    import httpx

    if channel.template:
        import jinja2.sandbox

        told = document(channel, events, more)
        try:
            text = jinja2.sandbox.SandboxedEnvironment().from_string(channel.template).render(told)
        except jinja2.TemplateError as error:
            raise NotSentError(f"the template cannot be used: {error}") from error
        content = text.encode()
    else:
        content = json.dumps(document(channel, events, more)).encode()
    headers = {"Content-Type": "application/json", EVENT_HEADER: events[0].id, "User-Agent": _APP}
    if channel.secret:
        headers[SIGNATURE] = hmac.new(channel.secret.encode(), content, hashlib.sha256).hexdigest()
    try:
        answer = httpx.post(channel.url, content=content, headers=headers, timeout=_TIMEOUT_S,
                            verify=ssl.create_default_context())  # fmt: skip
    except (httpx.HTTPError, httpx.InvalidURL) as error:
        raise NotSentError((str(error) or type(error).__name__)[:_REASON]) from error
    if not answer.is_success:
        raise NotSentError(f"the server answers {answer.status_code}")
    return f"answered {answer.status_code}"


def _mail(channel: Channel, events: list[Event], more: int) -> str:
    message = email.message.EmailMessage(email.policy.default.clone(max_line_length=998))
    message["Subject"] = " ".join(f"[{_APP}] {subject_of(events, more)}".split())
    message["From"], message["To"] = channel.sender, ", ".join(channel.to)
    message["Date"] = email.utils.format_datetime(datetime.now(UTC))
    message["Message-ID"] = f"<{events[0].id}.{channel.name.encode().hex()}@{_APP}.invalid>"
    # RFC 5322: a line of at most 998 signs, of ASCII, which JSON can be.
    first = {key: value for key, value in events[0].as_json().items() if key not in ("words", "about")}
    message["X-Yaffle-Event"] = json.dumps(first)[:_LONGEST_HEADER]
    message["X-Yaffle-Events"] = str(len(events) + more)
    message.set_content(body_of(channel, events, more))
    return _posted(channel, message)


def send_file(channel: Channel, subject: str, words: str, path: Path) -> str:
    """A file by mail; what became of it. Raises NotSentError."""
    message = email.message.EmailMessage(email.policy.default.clone(max_line_length=998))
    message["Subject"] = " ".join(f"[{_APP}] {subject}".split())
    message["From"], message["To"] = channel.sender, ", ".join(channel.to)
    message["Date"] = email.utils.format_datetime(datetime.now(UTC))
    message["Message-ID"] = f"<{path.name.encode().hex()}.{channel.name.encode().hex()}@{_APP}.invalid>"
    message.set_content(words)
    kind = ("application", "pdf") if path.suffix == ".pdf" else ("text", "html")
    try:
        message.add_attachment(path.read_bytes(), maintype=kind[0], subtype=kind[1], filename=path.name)
        return _posted(channel, message)
    except (OSError, smtplib.SMTPException) as error:
        raise NotSentError(str(getattr(error, "strerror", None) or error)[:_REASON]) from error


def _posted(channel: Channel, message: email.message.EmailMessage) -> str:
    """Hands a message to the mail server."""
    told = urlsplit(channel.url)
    host, port = told.hostname or "", told.port or _PORTS[told.scheme]
    secure = ssl.create_default_context()
    if told.scheme == "smtps":
        own: smtplib.SMTP = smtplib.SMTP_SSL(host, port, timeout=_TIMEOUT_S, context=secure)
    else:
        own = smtplib.SMTP(host, port, timeout=_TIMEOUT_S)
    with own:
        own.ehlo()
        if told.scheme == "smtp" and own.has_extn("starttls"):
            own.starttls(context=secure)
            own.ehlo()
        user = channel.user or unquote(told.username or "")
        if user:
            own.login(user, channel.secret)
        refused = own.send_message(message)
    if refused:
        raise NotSentError(f"not taken for {', '.join(refused)}")
    return f"taken by {host}"


def _syslog(channel: Channel, events: list[Event], more: int) -> str:
    told = urlsplit(channel.url)
    end = (told.hostname or "", told.port or _PORTS[told.scheme])
    lines = [syslog_line(one) for one in events]
    if more:
        rest = Event(events[-1].time_ns, events[-1].watch, "", UNKNOWN, "notice", words=f"and {more} more")
        lines.append(syslog_line(rest))
    if told.scheme == "udp":
        family, _, _, _, address = socket.getaddrinfo(*end, type=socket.SOCK_DGRAM)[0]
        with socket.socket(family, socket.SOCK_DGRAM) as own:
            for line in lines:
                own.sendto(line[:_LONGEST_DATAGRAM], address)
        return f"sent to {end[0]}, which does not answer by UDP"
    with socket.create_connection(end, _TIMEOUT_S) as plain:
        stream = plain
        if told.scheme == "tls":
            stream = ssl.create_default_context().wrap_socket(plain, server_hostname=end[0])
        with stream:
            for line in lines:
                stream.sendall(b"%d %s" % (len(line), line))  # RFC 6587, octet counting
    return f"taken by {end[0]}"


def syslog_line(event: Event) -> bytes:
    """An event as RFC 5424 has it, with structured data."""
    level = 6 if event.state == CLEARED else _LEVELS.get(event.severity, 5)
    when = datetime.fromtimestamp(event.time_ns / 1e9, UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
    parts = {"watch": event.watch, "subject": event.subject, "state": event.state, "severity": event.severity,
             "value": "" if event.value != event.value else f"{event.value:.9g}",
             "limit": "" if event.limit != event.limit else f"{event.limit:.9g}", "unit": event.unit}  # fmt: skip
    data = "".join(f' {name}="{_escaped(value)}"' for name, value in parts.items() if value)
    words = " ".join(event.words.split())
    return (
        f"<{_DAEMON * 8 + level}>1 {when} {socket.gethostname()} {_APP} {os.getpid()} {event.id}"
        f" [watch@{_ENTERPRISE}{data}] {words}"
    ).encode()


def _escaped(value: str) -> str:
    return "".join(f"\\{c}" if c in '"\\]' else c for c in value)


def _desktop(channel: Channel, events: list[Event], more: int) -> str:
    """The desktop's own notifications (freedesktop.org), over the session bus."""
    from jeepney import DBusAddress, DBusErrorResponse, new_method_call
    from jeepney.io.blocking import open_dbus_connection

    address = DBusAddress("/org/freedesktop/Notifications", "org.freedesktop.Notifications",
                          "org.freedesktop.Notifications")  # fmt: skip
    urgency = 2 if any(one.severity == "critical" and one.state != CLEARED for one in events) else 1
    text = "\n".join([*(one.words for one in events[:5]), *([f"and {len(events) - 5 + more} more"]
                      if len(events) - 5 + more > 0 else [])])  # fmt: skip
    hints = {"urgency": ("y", urgency), "x-yaffle-event": ("s", events[0].id)}
    call = new_method_call(address, "Notify", "susssasa{sv}i",
                           (_APP, 0, _APP, subject_of(events, more), text, [], hints, -1))  # fmt: skip
    try:
        with open_dbus_connection("SESSION") as bus:
            answer = bus.send_and_get_reply(call, timeout=_TIMEOUT_S)
    except (KeyError, TimeoutError, DBusErrorResponse) as error:
        raise NotSentError(f"no desktop takes notifications here ({error})") from error
    if answer.header.message_type.name == "error":
        raise NotSentError(f"the desktop does not take it: {answer.body}")
    return "shown on the desktop"


def template_of(path: Path) -> str:
    """A template from a file. Raises YaffleError."""
    try:
        return path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", None) or error
        raise YaffleError(f"{path}: the template cannot be read ({reason})") from error
