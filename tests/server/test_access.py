"""A reader cannot edit and a stranger sees nothing: tried on every endpoint the schema lists."""

import pytest
from drf_spectacular.generators import SchemaGenerator
from rest_framework.test import APIClient

from networks.models import Membership, Network, Revision

METHODS = ("get", "post", "put", "patch", "delete")
OPEN = {("/api/session", "get"), ("/api/session", "post"), ("/api/schema", "get"), ("/api/health", "get")}
# What a signed-in user may do without being a member of anything.
OWN = {
    ("/api/session", "delete"),
    ("/api/token", "post"),
    ("/api/token", "delete"),
    ("/api/tokens", "get"),
    ("/api/tokens", "post"),
    ("/api/tokens/{token_id}", "delete"),
    ("/api/networks", "get"),
    ("/api/networks", "post"),
    ("/api/load-check", "post"),
    ("/api/networks/example", "post"),
    ("/api/deleted-networks", "get"),
    ("/api/uploads", "get"),
    ("/api/uploads", "post"),
    ("/api/uploads/{upload}", "get"),
    ("/api/uploads/{upload}", "delete"),
}


@pytest.fixture
def network(network, owner) -> dict:
    """The network with a trial, a job and something that happened."""
    trial = {"revision": 1, "changes": [{"disable": "device", "at": "r"}]}
    assert owner.post(f"/api/networks/{network['id']}/trials", trial, format="json").status_code == 201
    job = owner.post(f"/api/networks/{network['id']}/jobs", {"revision": 1}, format="json").json()
    event = '{"time": "2026-11-20T05:00:00Z", "down": "device", "at": "r"}'
    file = owner.post(f"/api/networks/{network['id']}/events", {"text": event}, format="multipart").json()
    samples = {"text": "time,at,cpu_percent\n2026-11-20T05:00:00Z,r,10\n2026-11-20T05:05:00Z,r,11\n"}
    assert owner.post(f"/api/networks/{network['id']}/events", samples, format="multipart").status_code == 201
    return {**network, "job": job["id"], "events": file["id"]}


def endpoints() -> list[tuple[str, str]]:
    paths = SchemaGenerator().get_schema(public=True)["paths"]
    return sorted((path, method) for path, methods in paths.items() for method in methods if method in METHODS)


ALL = endpoints()
OF_A_NETWORK = [endpoint for endpoint in ALL if endpoint not in OPEN | OWN]
NOT_CHANGING = (
    "/jobs",
    "/jobs/{job}/cancel",
    "/walks",
    "/tried",
    "/trials",
    "/trials/{trial}",
    "/asked/{asked_id}",
    "/deleted-networks/{network_id}",
)
"""What is asked or tried, by whoever may read; one's own list of what was asked; what only owners see."""
CHANGING = [(path, method) for path, method in OF_A_NETWORK if method != "get" and not path.endswith(NOT_CHANGING)]


def url(path: str, network: dict) -> str:
    filled = path.format(
        network_id=network["id"],
        number=1,
        username="olive",
        token_id=1,
        asked_id=1,
        trial=1,
        job=network["job"],
        file_id=network["events"],
        upload="00000000-0000-0000-0000-000000000000",
    )
    extra = {
        "walk": "?from=h1&to=h2",
        "comparison": "?since=1",
        "maintenance": "?shut=device r",
        "turned": "?since=1&expectation=web",
        "leaning": "?expectation=web",
        "outline": "?file=network.yaml",
        "statements": "?file=network.yaml&line=3",
        "table": "?device=r",
        "policy": "?device=r&policy=all",
        "drift": "?device=r",
        "contest": "?device=r&prefix=10.0.1.0/24",
        "tipping": "?device=r&prefix=10.0.1.0/24",
        "forest": "?prefix=10.0.1.0/24",
        "source": "?file=network.yaml",
        "tried": "?trial=1",
        "moved": "?trial=1",
        "held": "?trial=1",
        "endangered": "?device=r",
        "remedies": "?from=h1&to=h2",
        "wanted-way": "?from=h1&to=h2&passing=r",
        "difference": "?trial=1",
        "patches": "?trial=1",
        "device-text": "?device=r",
        "strip": "?from=h1&to=h2",
        "route-over-time": "?device=r&prefix=10.0.2.0/24",
        "measured": "?what=device&at=r&measure=cpu",
        "state": "?moment=2026-11-20T05:00:00Z",
    }
    return filled + extra.get(path.rsplit("/", 1)[1], "")


def call(client: APIClient, path: str, method: str, network: dict):
    body = {} if method == "get" else {"data": {"name": "taken", "username": "olive", "role": "reader"}}
    return getattr(client, method)(url(path, network), **body)


def state() -> tuple:
    return (
        list(Network.objects.values_list("id", "name")),
        list(Membership.objects.values_list("network", "user", "role")),
        list(Revision.objects.values_list("network", "number", "digest")),
    )


def test_the_schema_lists_what_is_tested():
    assert len(OF_A_NETWORK) >= 15
    assert len(CHANGING) >= 5


@pytest.mark.parametrize(("path", "method"), [endpoint for endpoint in ALL if endpoint not in OPEN])
def test_nobody_unknown_gets_anything(path, method, network):
    before = state()
    assert call(APIClient(), path, method, network).status_code in (401, 403)
    assert state() == before


@pytest.mark.parametrize(("path", "method"), OF_A_NETWORK)
def test_to_a_stranger_the_network_does_not_exist(path, method, network, client_of):
    before = state()
    answer = call(client_of("stranger"), path, method, network)
    assert answer.status_code == 404
    assert "two hosts" not in answer.content.decode()
    assert state() == before


@pytest.mark.parametrize(("path", "method"), CHANGING)
def test_a_reader_changes_nothing(path, method, network, join):
    client = join("rita", "reader")
    before = state()
    assert call(client, path, method, network).status_code == 403
    assert state() == before


@pytest.mark.parametrize(("path", "method"), [e for e in OF_A_NETWORK if e[1] == "get"])
def test_a_reader_reads_everything(path, method, network, join):
    assert call(join("rita", "reader"), path, method, network).status_code == 200


def test_an_editor_adds_revisions_but_shares_and_deletes_nothing(network, join):
    client = join("ed", "editor")
    base = f"/api/networks/{network['id']}"
    assert client.patch(base, {"name": "renamed"}).json()["name"] == "renamed"
    assert client.put(f"{base}/members", {"username": "ed", "role": "owner"}).status_code == 403
    assert client.delete(base).status_code == 403


def test_a_strangers_list_is_empty(network, client_of):
    assert client_of("stranger").get("/api/networks").json()["results"] == []


def test_a_network_keeps_an_owner(network, owner, make_user):
    base = f"/api/networks/{network['id']}/members"
    assert owner.delete(f"{base}/olive").status_code == 400
    assert owner.put(base, {"username": "olive", "role": "reader"}).status_code == 400
    assert owner.put(base, {"username": "nobody", "role": "reader"}).status_code == 400
    make_user("second")
    assert owner.put(base, {"username": "second", "role": "owner"}).status_code == 200
    assert owner.delete(f"{base}/olive").status_code == 204
    assert owner.get(base).status_code == 404


def test_the_session_of_the_browser(make_user, db):
    make_user("sam")
    client = APIClient(enforce_csrf_checks=False)
    assert client.get("/api/session").json() == {"username": None}
    assert client.post("/api/session", {"username": "sam", "password": "wrong"}).status_code in (401, 403)
    assert client.post("/api/session", {"username": "sam", "password": "sam's long password"}).status_code == 200
    assert client.get("/api/session").json() == {"username": "sam"}
    token = client.post("/api/token").json()["token"]
    script = APIClient(HTTP_AUTHORIZATION=f"Token {token}")
    assert script.get("/api/networks").status_code == 200
    assert client.delete("/api/token").status_code == 204
    assert script.get("/api/networks").status_code == 401
    assert client.delete("/api/session").status_code == 204
    assert client.get("/api/networks").status_code in (401, 403)


def test_a_browser_session_is_guarded_against_other_sites(make_user, db):
    make_user("sam")
    client = APIClient(enforce_csrf_checks=True)
    assert client.login(username="sam", password="sam's long password")
    assert client.post("/api/token").status_code == 403
    assert client.post("/api/session", {"username": "sam", "password": "sam's long password"}).status_code == 403


def test_guessing_passwords_is_slowed_down(db):
    client = APIClient()
    wrong = [client.post("/api/session", {"username": "x", "password": "y"}).status_code for _ in range(25)]
    assert wrong[-1] == 429
