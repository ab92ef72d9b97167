"""Solved networks on disk: opened by other processes, never trusted blindly, bounded."""

import json
import os
import time

import pytest

from bench.generator import Shape, document
from routrel.formats.sources import read_files
from routrel.solving import solve
from work import solved_cache
from work.answering import answer
from work.pool import Limits, Pool
from work.process import Question
from work.solved_revision import SolvedRevision


@pytest.fixture(autouse=True)
def folder(tmp_path, monkeypatch):
    monkeypatch.setenv("ROUTREL_SOLVED", str(tmp_path / "solved"))
    return tmp_path / "solved"


def text_of(routers: int) -> bytes:
    return json.dumps(document(Shape(routers, areas=2, prefixes=routers, sites=3))).encode()


TEXT = text_of(12)


def test_what_is_opened_answers_as_what_was_solved(folder):
    first = SolvedRevision.of("n.json", TEXT)
    assert solved_cache.opened("a") is None
    solved_cache.keep("a", first.as_it_is)
    known = solved_cache.opened("a")
    assert known is not None and folder.stat().st_mode & 0o077 == 0
    again = SolvedRevision.of("n.json", TEXT, known)
    for question in ("loaded", "map", "findings"):
        assert answer(first, question, {}) == answer(again, question, {})


def test_a_file_that_is_broken_or_of_other_code_is_solved_anew(folder):
    solved_cache.keep("a", solve(read_files({"n.json": TEXT})))
    (path,) = folder.iterdir()
    path.write_bytes(path.read_bytes()[: path.stat().st_size // 2])
    assert solved_cache.opened("a") is None
    path.write_bytes(b"")
    assert solved_cache.opened("a") is None


def test_what_was_asked_for_longest_ago_goes_first(folder, monkeypatch):
    solved = solve(read_files({"n.json": TEXT}))
    for number, key in enumerate("abc"):
        solved_cache.keep(key, solved)
        monkeypatch.setattr(solved_cache, "MOST_BYTES", 2.5 * next(folder.iterdir()).stat().st_size)
        for path in folder.iterdir():
            os.utime(path, (number, number))
        assert solved_cache.opened("a") is not None  # which makes it the last that was asked for
    assert [solved_cache.opened(key) is not None for key in "abc"] == [True, False, True]


def test_without_a_folder_nothing_is_kept(monkeypatch, folder):
    monkeypatch.delenv("ROUTREL_SOLVED")
    solved_cache.keep("a", solve(read_files({"n.json": TEXT})))
    assert solved_cache.opened("a") is None and not folder.exists()


def test_another_process_opens_what_one_has_solved(folder):
    text = text_of(1200)
    bodies = []
    for turn in range(2):
        pool = Pool(Limits(processes=1))
        try:
            bodies.append(pool.ask(Question("big", "n.json", "map", {}), lambda: text).body)
            end = time.monotonic() + 60
            while not list(folder.glob("*.solved")):
                assert time.monotonic() < end
                time.sleep(0.1)
        finally:
            pool.close()
        (path,) = folder.glob("*.solved")
        if turn == 0:
            os.utime(path, (1, 1))
    assert path.stat().st_mtime > 1 and bodies[0] == bodies[1]
