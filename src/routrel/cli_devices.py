"""The commands about devices: collecting from them, hearing from them, and playing them.

Their libraries take a second to load, which no other command needs.
"""

import argparse
from pathlib import Path
from typing import Any

import shtab

from routrel.cli_arguments import add_command


def add_device_commands(commands: Any) -> None:
    """Collecting from devices, hearing from them, and playing them."""
    collected = commands.add_parser(
        "collect",
        help="ask the devices of an inventory for what they know",
        description="Ask the devices of an inventory for what they know.",
    )
    inventory = collected.add_argument("inventory", metavar="INVENTORY", help="the devices, and how to ask them")
    inventory.complete = shtab.FILE
    collected.add_argument("folder", metavar="FOLDER", type=Path, help="the network's folder, kept up to date")
    collected.add_argument("--every", metavar="MINUTES", type=int, help="again and again")
    collected.add_argument("--to", metavar="URL", help="where something changed, a revision: .../networks/ID/revisions")
    collected.add_argument("--events", metavar="FILE", type=Path, help="where what went down and came up is added")
    collected.add_argument("--json", action="store_true", help="one JSON document on standard output")
    collected.set_defaults(run=_collect)

    played = add_command(commands, "stand-ins", "play the devices of a network on loopback, to be collected from")
    played.add_argument("folder", metavar="FOLDER", type=Path, help="where the inventory goes, with what access needs")
    played.add_argument("--seconds", type=float, help="for so long; else until it is stopped")
    played.set_defaults(run=_stand_ins)

    listening = commands.add_parser(
        "listen",
        help="hear from devices what happens, by BMP and syslog, and keep it as files of events",
        description="Hear from devices what happens, by BMP and syslog, and keep it as files of events.",
    )
    listening.add_argument("folder", metavar="FOLDER", type=Path, help="where the files go")
    listening.add_argument("--bmp", metavar="ADDRESS:PORT", help="where to hear BMP (127.0.0.1:11019 without --syslog)")
    listening.add_argument("--syslog", metavar="ADDRESS:PORT", help="where to hear syslog over TCP, by --rules")
    listening.add_argument("--rules", metavar="FILE", help="which message of syslog means which event")
    listening.add_argument("--every", metavar="SECONDS", type=float, default=60.0, help="how long a file is added to")
    listening.add_argument("--to", metavar="URL", help="where files are sent: .../networks/ID/events")
    listening.set_defaults(run=_listen)

    speaking = add_command(
        commands, "speak", "tell by BMP what a network's routers hear, and what happened, to try a listener"
    )
    speaking.add_argument("--to", metavar="ADDRESS:PORT", default="127.0.0.1:11019", help="who listens")
    speaking.add_argument("--events", metavar="FILE", help="what happened, one event on a line")
    speaking.add_argument("--speed", type=float, help="so many times as fast as it happened; else all at once")
    speaking.set_defaults(run=_speak)


def _collect(options: argparse.Namespace) -> int:
    from routrel.cli_collect import collect_command

    return collect_command(options)


def _stand_ins(options: argparse.Namespace) -> int:
    from routrel.cli_collect import stand_ins_command

    return stand_ins_command(options)


def _listen(options: argparse.Namespace) -> int:
    from routrel.cli_listen import listen_command

    return listen_command(options)


def _speak(options: argparse.Namespace) -> int:
    from routrel.cli_speak import speak_command

    return speak_command(options)
