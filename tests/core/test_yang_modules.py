"""Documents held against the standards' own modules, where Debian has them: interfaces, addresses, routing with static
routes, and topologies.

What other modules say (ospf, isis, bgp …) comes in no package and is taken out before; every node that is left must be
one of the modules', with a value that they allow.
"""

import json
import shutil
import subprocess
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from routrel.formats.models.writing import STATE
from routrel.formats.sources import files_of, read_files
from routrel.formats.written_models import written_in_models
from tests.core import mixed_networks, speaker_networks
from tests.core.rfc_documents import RFC8343_CONFIGURED, RFC8343_TOLD, RFC8344_CONFIGURED, RFC8344_TOLD, RFC8349_ROUTER
from tests.examples import examples

YUMA = Path("/usr/share/yuma")
FOLDERS = (YUMA / "nmda-modules" / "ietf", YUMA / "modules" / "ietf")
"""The modules of RFC 8342's architecture first."""

MODULES = {
    "ietf-interfaces": "2018-02-20",
    "ietf-ip": "2018-02-22",
    "ietf-routing": "2018-03-13",
    "ietf-ipv4-unicast-routing": "2018-03-13",
    "ietf-ipv6-unicast-routing": "2018-03-13",
    "iana-if-type": "2014-05-08",
    "ietf-system": "2014-08-06",
    "ietf-network": "2018-02-26",
    "ietf-network-topology": "2018-02-26",
}

FOUND = [path for name, date in MODULES.items() for one in FOLDERS if (path := one / f"{name}@{date}.yang").exists()]
needs_modules = pytest.mark.skipif(
    shutil.which("yanglint") is None or len(FOUND) < len(MODULES),
    reason="yanglint or the modules are not installed (Debian: libyang2-tools, libyuma-base)",
)


def in_modules(value: Any) -> Any:
    """A document without what stands in other modules."""
    if isinstance(value, dict):
        return {key: in_modules(one) for key, one in value.items() if is_known(key)}
    if isinstance(value, list):
        return [in_modules(one) for one in value if not isinstance(one, dict) or is_known(str(one.get("type", "")))]
    return value


def is_known(name: str) -> bool:
    module, colon, _ = name.partition(":")
    return not colon or module in MODULES


def configured(document: Any) -> Any:
    """A document without what a device only tells."""
    for entry in document.get("ietf-interfaces:interfaces", {}).get("interface", []):
        for leaf in STATE:
            entry.pop(leaf, None)
    return document


def refused(folder: Path, documents: dict[str, Any], kind: str) -> str:
    """What yanglint says of documents that it does not take; ``kind`` is config, or get as NETCONF has it."""
    paths = []
    for name, document in documents.items():
        paths.append(folder / f"{name}.json")
        paths[-1].write_text(json.dumps(in_modules(document)))
    searched = [part for one in FOLDERS for part in ("-p", str(one))]
    # Modules of which a document has nothing ask for nothing.
    command = ["yanglint", "-f", "json", "-e", "-t", kind, *searched, *map(str, FOUND), *map(str, paths)]
    done = subprocess.run(command, capture_output=True, text=True, timeout=60)
    return "" if done.returncode == 0 else done.stderr or "refused"


def written(files: dict[str, bytes]) -> dict[str, Any]:
    texts = written_in_models(files, read_files(files))
    return {name.removesuffix(".json"): json.loads(text) for name, text in texts.items() if name.endswith(".json")}


@needs_modules
def test_what_is_written_of_the_demo_is_what_the_modules_allow(tmp_path):
    documents = written(files_of(Path(__file__).parents[2] / "examples" / "saltmarsh"))
    assert len(documents) > 30
    for name, document in documents.items():
        assert refused(tmp_path, {name: document}, "get") == ""
        if name != "_topology":
            assert refused(tmp_path, {name: configured(document)}, "config") == ""


@needs_modules
@given(st.one_of(mixed_networks.documents(), speaker_networks.speakers()))
@settings(max_examples=examples(15), deadline=None, suppress_health_check=list(HealthCheck))
def test_what_is_written_of_random_networks_is_what_the_modules_allow(tmp_path, document):
    documents = written({"network.json": json.dumps(document).encode()})
    for name, one in documents.items():
        assert refused(tmp_path, {name: one}, "get") == ""
        if name != "_topology":
            assert refused(tmp_path, {name: configured(one)}, "config") == ""


@needs_modules
@pytest.mark.parametrize(
    ("document", "kind"),
    [
        (RFC8343_CONFIGURED, "config"),
        (RFC8343_TOLD, "get"),
        (RFC8344_CONFIGURED, "config"),
        (RFC8344_TOLD, "get"),
        (RFC8349_ROUTER, "get"),
    ],
)
def test_documents_of_the_standards_are_what_the_modules_allow(tmp_path, document, kind):
    assert refused(tmp_path, {"document": document}, kind) == ""


@needs_modules
def test_what_the_modules_do_not_allow_is_refused(tmp_path):
    wrong = {
        "ietf-interfaces:interfaces": {"interface": [{"name": "e1", "type": "iana-if-type:ethernetCsmacd", "x": 1}]}
    }
    assert "x" in refused(tmp_path, {"wrong": wrong}, "config")
