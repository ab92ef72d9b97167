"""Many at once: one solution for one text, numbers given once, and the server alive."""

from concurrent.futures import ThreadPoolExecutor

import pytest
from django.contrib.auth import get_user_model
from django.db import connection
from rest_framework.test import APIClient

from networks.models import Network, Revision
from tests.server.conftest import TEXT

pytestmark = pytest.mark.django_db(transaction=True)


def at_once(action, times: int = 6) -> list:
    def one(number: int):
        try:
            return action(number)
        finally:
            connection.close()

    with ThreadPoolExecutor(times) as pool:
        return list(pool.map(one, range(times)))


def client() -> APIClient:
    made = APIClient()
    made.force_authenticate(get_user_model().objects.get(username="olive"))
    return made


def test_revisions_uploaded_at_once_get_numbers_of_their_own(network):
    path = f"/api/networks/{network['id']}/revisions"

    def upload(number: int) -> int:
        return client().post(path, {"text": TEXT + f"# {number}\n"}, format="multipart").status_code

    assert set(at_once(upload)) == {201}
    numbers = list(Revision.objects.order_by("number").values_list("number", flat=True))
    assert numbers == list(range(1, 8))


def test_a_network_asked_by_many_at_once_gives_all_the_same_answer(network):
    path = f"/api/networks/{network['id']}/revisions/1/walk?from=h1&to=h2"
    answers = at_once(lambda _: client().get(path).json())
    assert answers[0]["forward"]["verdict"] == "arrives"
    assert all(answer == answers[0] for answer in answers)


def test_the_demo_is_loaded_once_and_again_only_when_it_changed(db, monkeypatch, tmp_path, capsys):
    from django.core.management import call_command

    from networks import first_use

    monkeypatch.setenv("ROUTREL_DATABASE", str(tmp_path / "database.json"))
    for _ in range(2):
        call_command("load_demo", address="http://127.0.0.1:8000/")
    assert Network.objects.filter(name="Saltmarsh Ferries").count() == 1
    assert Revision.objects.count() == 1
    shown = capsys.readouterr().out
    assert "http://127.0.0.1:8000/" in shown
    user, password = first_use.first_user()
    assert user.check_password(password)
    assert password in shown
    user.set_password("chosen by the user")
    user.save()
    assert first_use.first_user()[1] == ""


def test_users_are_added_and_given_new_passwords(db, capsys):
    from django.core.management import CommandError, call_command

    call_command("add_user", "mate")
    first = capsys.readouterr().out.split(": ")[1].strip()
    assert get_user_model().objects.get(username="mate").check_password(first)
    call_command("add_user", "mate")
    assert not get_user_model().objects.get(username="mate").check_password(first)
    with pytest.raises(CommandError, match="no user name"):
        call_command("add_user", "two words")
