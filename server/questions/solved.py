"""Solved revisions, kept in memory: a cache that can be lost without losing anything."""

import threading
from collections import OrderedDict
from dataclasses import dataclass, field

from networks.models import Revision
from routrel.analysis.answers import Answerer
from routrel.analysis.check import check
from routrel.analysis.contest.answer import WhyAnswerer
from routrel.analysis.evidence import Evidence
from routrel.analysis.overview import Words
from routrel.collecting import keep, let_go
from routrel.formats.sources import files_of_upload, read_files
from routrel.model.findings import Finding
from routrel.routing.solve import Solved, solve

KEPT = 6


@dataclass
class SolvedRevision:
    """A revision with all that is computed from it; ``lock`` is held while it is asked."""

    files: dict[str, bytes]
    solved: Solved
    answerer: Answerer
    evidence: Evidence
    lock: threading.RLock = field(default_factory=threading.RLock)
    _findings: list[Finding] | None = None
    _words: Words | None = None
    _why: WhyAnswerer | None = None

    def words(self) -> Words:
        if self._words is None:
            self._words = Words(self.solved)
        return self._words

    def why(self) -> WhyAnswerer:
        if self._why is None:
            self._why = WhyAnswerer(self.solved)
        return self._why

    def findings(self) -> list[Finding]:
        if self._findings is None:
            self._findings = check(self.solved)
        return self._findings


_kept: OrderedDict[str, SolvedRevision] = OrderedDict()
_lock = threading.Lock()
_solving: dict[str, threading.Lock] = {}


def solved_revision(revision: Revision) -> SolvedRevision:
    """The solved network of a revision; equal texts share one, and only one thread solves each."""
    digest = f"{revision.digest}:{revision.file_name}"
    with _lock:
        if digest in _kept:
            _kept.move_to_end(digest)
            return _kept[digest]
        mine = _solving.setdefault(digest, threading.Lock())
    with mine:
        with _lock:
            if digest in _kept:
                return _kept[digest]
        files = files_of_upload(revision.file_name, revision.original())
        solved = solve(read_files(files))
        answerer = Answerer(solved)
        made = SolvedRevision(files, solved, answerer, Evidence(answerer))
        with _lock:
            _kept[digest] = made
            _solving.pop(digest, None)
            is_full = len(_kept) > KEPT
            while len(_kept) > KEPT:
                _kept.popitem(last=False)
        if is_full:
            let_go()
        else:
            keep()
        return made
