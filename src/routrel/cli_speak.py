"""``routrel speak``: a network's routers tell by BMP what they hear, and what happened, to try a listener."""

import argparse
import asyncio
import sys
from collections import Counter
from collections.abc import Iterator
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path

from routrel.analysis.heard_paths import heard_sessions
from routrel.analysis.timeline.states import Timeline
from routrel.analysis.timeline.switches import Switch, session_named
from routrel.cli_listen import address_of
from routrel.cli_output import DONE, CallError, bytes_of
from routrel.formats.changes.finding import ChangeError
from routrel.formats.happenings import Happenings, read_happenings
from routrel.formats.sources import files_of, read_files
from routrel.listening.bmp_stand_in import announced, initiation, session_down, session_up, withdrawn
from routrel.model.announcements import microseconds
from routrel.model.received import HeardSession
from routrel.solving import solve

Sessions = dict[Switch, HeardSession]
Said = tuple[datetime, str, bytes]
"""When which device says a message."""


def speak_command(options: argparse.Namespace) -> int:
    """Speak until all is said."""
    if options.speed is not None and options.speed <= 0:
        raise CallError("--speed is a number above 0: how many times as fast as it happened")
    read = None if options.events is None else read_happenings(bytes_of(options.events), Path(options.events).name)
    files = files_of(Path(options.network))
    solved = solve(read_files(files))
    sessions = {Switch("session", f"{one.device} {one.neighbor}", one.vrf): one for one in heard_sessions(solved)}
    if not sessions:
        raise CallError("no BGP session of this network is up: its routers hear nothing")
    begin = datetime.now(UTC) if read is None or read.span is None else read.span[0]
    events = [] if read is None else read.events
    since = solved.network.taken_at or (begin if read is None or read.span is None else read.span[1])
    timeline = Timeline(files, solved, since, events)
    said = [*_beginning(timeline, sessions, begin), *([] if read is None else _happening(timeline, sessions, read))]
    said.sort(key=lambda one: one[0])
    try:
        asyncio.run(_speak(said, address_of(options.to), options.speed))
    except OSError as error:
        raise CallError(f"nobody listens at {options.to}: {error.strerror or error}") from None
    left = Counter(event.change.what for event in events if event.change.what != "session")
    print(f"{len(sessions):,} sessions, {len(said):,} messages said", file=sys.stderr)
    for what, count in left.items():
        print(f"routrel: of {what.replace('_', ' ')} nothing is said by BMP: {count:,} events", file=sys.stderr)
    return DONE


def _beginning(timeline: Timeline, sessions: Sessions, begin: datetime) -> Iterator[Said]:
    """Every device says who it is and which of its sessions are up, before anything happens."""
    before = begin - timedelta(microseconds=1)
    for device in dict.fromkeys(one.device for one in sessions.values()):
        yield begin, device, initiation(device)
    for switch, session in sessions.items():
        if not timeline.ever_switched(switch) or timeline.is_on(switch, before):
            yield from ((begin, session.device, message) for message in session_up(session, begin))


def _happening(timeline: Timeline, sessions: Sessions, read: Happenings) -> Iterator[Said]:
    """Sessions that come and go, and paths that are said and taken back."""
    for number, event in enumerate(timeline.events):
        for switch in timeline.switched[number]:
            session = sessions.get(switch)
            if session is not None and event.is_down:
                yield event.time, session.device, session_down(session, event.time)
            elif session is not None:
                yield from ((event.time, session.device, one) for one in session_up(session, event.time))
    speakers = dict[str, HeardSession]()
    for speaker in read.announcements.speakers:
        with suppress(ChangeError):  # of whom the network knows nothing
            switch = session_named(timeline.solved.network, speaker)
            speakers |= {speaker: sessions[switch]} if switch in sessions else {}
    for number in range(len(read.announcements)):
        row = read.announcements.row(number)
        session = speakers.get(row.speaker)
        if session is None or row.prefix is None:
            continue
        if row.attributes is None:
            yield row.moment, session.device, withdrawn(session, row.prefix, row.moment)
        else:
            yield row.moment, session.device, announced(session, row.prefix, row.attributes, row.moment)


async def _speak(said: list[Said], address: tuple[str, int], speed: float | None) -> None:
    """Each device by a connection of its own; between moments as long as it was, so many times as fast."""
    writers = dict[str, asyncio.StreamWriter]()
    before = microseconds(said[0][0])
    for moment, device, message in said:
        if speed is not None and microseconds(moment) > before:
            await asyncio.sleep((microseconds(moment) - before) / 1e6 / speed)
        before = microseconds(moment)
        if device not in writers:
            _, writers[device] = await asyncio.open_connection(*address)
        writers[device].write(message)
        await writers[device].drain()
    for writer in writers.values():
        writer.close()
        await writer.wait_closed()
