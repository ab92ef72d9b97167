"""Work processes: within limits of time and memory, replaced when they end, one left to quick questions."""

import json
import threading

import pytest

from tests.server.conftest import TEXT
from work.answering import answer
from work.kept_answers import KeptAnswers
from work.pool import BusyError, Limits, Pool, TookTooLongError, TookTooMuchMemoryError
from work.process import Question
from work.solved_revision import SolvedRevision, changes_key

QUESTION = Question("a:n.yaml", "n.yaml", "loaded", {})


def many_values(count: int) -> bytes:
    return b"routrel: 1\nname: n\nlinks: [" + b"1," * count + b"1]"


MANY, TOO_MANY = many_values(300_000), many_values(1_500_000)


@pytest.fixture
def pool(request):
    made = Pool(getattr(request, "param", Limits()))
    yield made
    made.close()


def ask(pool: Pool, digest: str, text: bytes, user: str = "", name: str = "loaded"):
    return pool.ask(Question(digest, "n.yaml", name, {}), lambda: text, user)


def test_a_text_is_asked_for_once(pool):
    asked = []
    for _ in range(3):
        outcome = pool.ask(QUESTION, lambda: asked.append(1) or TEXT.encode())
        assert json.loads(outcome.body)["name"] == "two hosts"
    assert len(asked) <= 2  # once, and once more where the quick process takes over


def test_what_cannot_be_loaded_is_refused_with_every_error(pool):
    outcome = ask(pool, "bad", b"routrel: 1\nname: n\ndevices: 3\nlinks: 4\n")
    assert (outcome.kind, outcome.status) == ("refused", 400)
    assert len(outcome.body["errors"]) == 2


@pytest.mark.parametrize("pool", [Limits(processes=2, solve_seconds=0.3)], indirect=True)
def test_work_over_its_time_is_ended_and_the_process_replaced(pool):
    with pytest.raises(TookTooLongError, match=r"longer than the 0\.3 seconds"):
        ask(pool, "slow", MANY)
    with pytest.raises(TookTooLongError):
        ask(pool, "slow again", MANY)


@pytest.mark.parametrize("pool", [Limits(processes=2, bytes_each=450 * 1024**2)], indirect=True)
def test_work_over_its_memory_is_ended_and_the_process_replaced(pool):
    with pytest.raises(TookTooMuchMemoryError):
        ask(pool, "large", TOO_MANY)
    assert ask(pool, "small", TEXT.encode()).status == 200


def test_a_process_that_dies_is_replaced(pool):
    assert ask(pool, "one", TEXT.encode()).status == 200
    for process in pool._processes:
        if process is not None:
            process.running.kill()
            process.running.wait()
    assert ask(pool, "one", TEXT.encode()).status == 200


@pytest.mark.parametrize("pool", [Limits(processes=2, wait_seconds=0.2, solve_seconds=20)], indirect=True)
def test_a_quick_revision_is_answered_while_uploads_hold_every_other_process(pool):
    assert ask(pool, "demo", TEXT.encode()).status == 200
    asked, release = threading.Event(), threading.Event()

    def held() -> bytes:
        """The text of a revision that takes as long as is wanted to come."""
        asked.set()
        release.wait(20)
        return TEXT.encode()

    heavy = Question("heavy", "n.yaml", "loaded", {})
    busy = threading.Thread(target=lambda: pool.ask(heavy, held, "other"))
    busy.start()
    assert asked.wait(20)
    with pytest.raises(BusyError):
        ask(pool, "another", MANY, "third")
    assert ask(pool, "demo", TEXT.encode(), "reader", "map").status == 200
    assert busy.is_alive()
    release.set()
    busy.join()


def test_what_the_core_did_not_foresee_is_told_apart_from_a_refusal(pool):
    outcome = pool.ask(Question("a", "n.yaml", "no such question", {}), lambda: TEXT.encode())
    assert outcome.kind == "failed" and "KeyError" in outcome.body


def test_what_takes_several_calls_goes_on_in_the_process_that_began_it(pool):
    changes = json.dumps([{"disable": "device", "at": "h2"}])
    held = Question("one", "n.yaml", "held", {}, changes=changes)
    tried = Question("one", "n.yaml", "tried", {}, changes=changes)
    for question in (held, tried, held, tried, held):
        assert pool.ask(question, TEXT.encode).status == 200
    holding = [process for process in pool._processes if process is not None and process.holding == held.key]
    assert len(holding) == 1
    assert json.loads(pool.ask(held, TEXT.encode).body)["held"]["changed"]


def test_a_trial_is_solved_ahead_and_known_by_what_its_changes_mean():
    revision = SolvedRevision.of("n.yaml", TEXT.encode())
    by_number = '[{"remove": "acl_entry", "at": "r", "acl": "e", "number": 1}]'
    trial = revision.tried(by_number)
    (outcome,) = trial.trial.applied.outcomes
    assert outcome.state == "applied" and revision.tried(changes_key([outcome.change.data()])) is trial


def test_an_answer_is_kept_within_a_bound(monkeypatch):
    kept = KeptAnswers()
    made = []

    def make(key: str) -> bytes:
        return kept.get(key, lambda: made.append(key) or key.encode() * 100)

    monkeypatch.setattr("work.kept_answers.MOST_BYTES", 250)
    assert make("a") == make("a") == b"a" * 100 and made == ["a"]
    make("b"), make("a"), make("c")  # there is room for two, and b was asked for longest ago
    make("a"), make("b")
    assert made == ["a", "b", "c", "b"]
    monkeypatch.setattr("work.kept_answers.LARGEST", 50)
    make("d"), make("d")
    assert made[-2:] == ["d", "d"]


def test_a_question_asked_again_is_answered_the_same():
    revision = SolvedRevision.of("n.yaml", TEXT.encode())
    asked = {"source": "h1", "destination": "h2", "service": "tcp/80"}
    assert answer(revision, "walk", asked) is answer(revision, "walk", dict(asked))
    assert answer(revision, "walk", asked) != answer(revision, "walk", {**asked, "service": "udp/53"})
