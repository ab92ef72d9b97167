import pytest
from django.contrib.auth import get_user_model
from django.core.cache import cache
from rest_framework.test import APIClient

from networks.models import Membership, Network, Role
from tests.core.test_walk import lan

TEXT = "routrel: 1\nname: two hosts\n" + lan(
    "{e: [{action: drop, protocol: udp}, {action: accept}]}",
    ", acl_in: e",
    "policies: {all: [{result: accept}]}",
    "install_policy: all",
)


COUNTED_HERE = {"default": {"BACKEND": "django.core.cache.backends.locmem.LocMemCache"}}


@pytest.fixture(autouse=True)
def _quick_and_unthrottled(settings):
    settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
    settings.CACHES = COUNTED_HERE
    cache.clear()


@pytest.fixture
def make_user(db):
    def make(name: str):
        return get_user_model().objects.create_user(name, password=f"{name}'s long password")

    return make


@pytest.fixture
def client_of(make_user):
    """A client signed in as a new user of a name."""

    def client(name: str) -> APIClient:
        made = APIClient()
        made.force_authenticate(make_user(name))
        return made

    return client


@pytest.fixture
def owner(client_of) -> APIClient:
    return client_of("olive")


@pytest.fixture
def network(owner) -> dict:
    """A network of olive's with one revision, as the API describes it."""
    answer = owner.post("/api/networks", {"text": TEXT}, format="multipart")
    assert answer.status_code == 201, answer.json()
    return answer.json()


@pytest.fixture
def join(network, make_user):
    """A client of a new user with a role in the network."""

    def joined(name: str, role: str) -> APIClient:
        user = make_user(name)
        Membership.objects.create(network=Network.objects.get(pk=network["id"]), user=user, role=Role(role))
        made = APIClient()
        made.force_authenticate(user)
        return made

    return joined
