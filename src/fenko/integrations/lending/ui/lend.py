"""`fenko lend`: Lend surfaces of this computer to a desk on another one."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import ExitStack
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import click

from fenko.cli.shared import desk_option, fail, fail_unknown, note, open_desk
from fenko.core.reader import NAME
from fenko.core.words import reason
from fenko.desk.compiled import compiled
from fenko.desk.load import Desk
from fenko.integrations.lending.ui.lender import Lender
from fenko.live.loop import Loop

USUAL_TOPIC = "fenko"
"""What surfaces are lent below, where an address says nothing else."""


@click.command()
@click.argument("surfaces", nargs=-1, required=True, metavar="SURFACE…")
@click.option(
    "--to", "where", required=True, metavar="URL|NAME", help="A broker: mqtts://HOST[:PORT][/TOPIC], or an [mqtt.NAME]."
)
@click.option(
    "--for",
    "whom",
    multiple=True,
    metavar="USER",
    help="Who may take them, by their name at the broker. Default: anyone.",
)
@click.option("--user", metavar="NAME", help="Who you are at the broker.")
@click.option(
    "--password-file", metavar="FILE", type=click.Path(path_type=Path), help="A file of yours alone with the password."
)
@click.option(
    "--ca", metavar="FILE", type=click.Path(path_type=Path), help="The certificate that the broker's is signed with."
)
@click.option(
    "--certificate",
    metavar="FILE",
    type=click.Path(path_type=Path),
    help="Your own certificate, in place of a password.",
)
@click.option("--key", metavar="FILE", type=click.Path(path_type=Path), help="Its key.")
@click.option("--announce", is_flag=True, help="Tell the local network that they are lent, and by which broker (mDNS).")
@desk_option
def command(
    surfaces: tuple[str, ...],
    where: str,
    whom: tuple[str, ...],
    user: str | None,
    password_file: Path | None,
    ca: Path | None,
    certificate: Path | None,
    key: Path | None,
    announce: bool,
    desk_folder: Path | None,
) -> None:
    """Lend surfaces of this computer to a desk on another one, through a broker.

    There, `links = ["mqtt TOPIC/SURFACE"]` makes one a surface like any other, with rumble and lamps coming back. As long as
    somebody has it, it is kept from other programs here; else it is as it always was. Ctrl-C ends it, and everything held
    on it.
    """
    desk = open_desk(desk_folder)
    for name in surfaces:
        if name not in desk.plan.surfaces:
            fail_unknown(f"the desk has no surface `{name}`", name, desk.plan.surfaces)
    said = {
        "user": user, "password": {"file": str(password_file.absolute())} if password_file else None,
        "ca": _absolute(ca), "certificate": _absolute(certificate), "key": _absolute(key),
    }  # fmt: skip
    broker, topic = _broker(desk, where, {name: value for name, value in said.items() if value is not None})
    plan = compiled(desk)
    with ExitStack() as stack:
        loop = stack.enter_context(Loop())
        for name in dict.fromkeys(surfaces):
            try:
                lender = Lender(loop, plan, name, f"{topic}/{name}", broker, whom, note)
            except OSError as why:
                fail(f"what talks to surfaces cannot be started: {reason(why)}")
            stack.callback(lender.close)
            lender.start()
            note(f'{name}: lent as `links = ["mqtt {lender.topic}"]`' + (f", to {', '.join(whom)}" if whom else ""))
        if announce:
            _announce(stack, desk, surfaces, topic, str(broker[1]["url"]))
        note("Ctrl-C ends it.")
        loop.run()
    note("ended; everything is released")


def _announce(stack: ExitStack, desk: Desk, surfaces: tuple[str, ...], topic: str, url: str) -> None:
    from fenko.live.announcing import Announced, NoNetwork, announced

    told = [Announced(name, f"{topic}/{name}", desk.plan.surfaces[name].kind, url) for name in dict.fromkeys(surfaces)]
    try:
        stack.enter_context(announced(told))
    except NoNetwork as why:
        fail(str(why))
    note("The local network is told of it.")


def _absolute(path: Path | None) -> str | None:
    return str(path.absolute()) if path is not None else None


def _broker(desk: Desk, where: str, said: Mapping[str, Any]) -> tuple[tuple[str, Mapping[str, Any]], str]:
    """The broker that is meant, what it is called, and the topic below which surfaces are lent."""
    known: Mapping[str, Any] = desk.sources.data.get("mqtt") or {}
    if "://" not in where:
        if where not in known:
            fail_unknown(f"the desk has no [mqtt.{where}], and it is no address", where, known)
        return (where, {**known[where], **said}), USUAL_TOPIC
    try:
        parts = urlsplit(where)
        host, port = parts.hostname, parts.port
    except ValueError as why:
        raise click.BadParameter(f"{where}: {why}", param_hint="--to") from None
    if parts.scheme not in ("mqtt", "mqtts") or not host:
        raise click.BadParameter(f"`{where}` is no broker: mqtts://HOST[:PORT][/TOPIC]", param_hint="--to")
    if parts.username or parts.password:
        raise click.BadParameter(
            "a password in an address is seen by everybody; --user and --password-file", param_hint="--to"
        )
    topic = parts.path.strip("/") or USUAL_TOPIC
    if not all(NAME.fullmatch(part) for part in topic.split("/")):
        raise click.BadParameter(f"`{topic}` cannot be a topic: names with / between", param_hint="--to")
    at = f"[{host}]" if ":" in host else host
    return (host, {"url": f"{parts.scheme}://{at}" + (f":{port}" if port else ""), **said}), topic
