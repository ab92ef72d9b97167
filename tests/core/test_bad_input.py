"""Whatever is thrown at the readers: a clear error with its place, and nothing loaded."""

import io
import json
import zipfile

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from routrel.formats.archives import unpack
from routrel.formats.errors import LoadError
from routrel.formats.sources import files_of, files_of_upload, read_files
from routrel.formats.yaml_nodes import MAX_BYTES
from tests.core.networks import errors
from tests.examples import examples


def refusal(data: bytes, name: str = "network.yaml") -> str:
    with pytest.raises(LoadError) as caught:
        read_files(files_of_upload(name, data))
    assert caught.value.errors
    return str(caught.value)


BOMB = b"a: &a [x, x, x, x, x, x, x, x, x]\n" + b"".join(
    f"{chr(98 + i)}: &{chr(98 + i)} [{', '.join(['*' + chr(97 + i)] * 9)}]\n".encode() for i in range(8)
)


@pytest.mark.parametrize(
    ("data", "said"),
    [
        (b"", "empty"),
        (b"  \n\n", "empty"),
        (b"# only a comment\n", "empty"),
        (bytes(range(256)), "UTF-8"),
        (b"routrel: 1\x00", "control character"),
        ("routrel: 1\nname: é\n".encode("latin-1"), "2:7: this is not UTF-8"),
        ("routrel: 1\n".encode("utf-16"), "UTF-8"),
        (BOMB, "aliases expand"),
        (b"&a [*a]", "contains it"),
        (b"[" * 10_000, "nested too deeply"),
        (b"[" * 10_000 + b"]" * 10_000, "nested too deeply"),
        (b"- " * 10_000, "nested too deeply"),
        ("\n".join(" " * i + "a:" for i in range(500)).encode(), "nested too deeply"),
        (b"routrel: 1\nname: x\nname: y", "3:1: the key stands twice"),
        (b"routrel: 1\ndevices:\n\tr1: {}", "a tab in the indentation"),
        (b"routrel: 1\n---\nname: x", "more than one YAML document"),
        (b"- a\n- b", "must be a mapping"),
        (b"just text", "must be a mapping"),
        (b"routrel: 2\nname: x", "1:10"),
        (b"name: x", "lacks the key 'routrel'"),
        (b"{a: [}", "not readable as YAML"),
        (b"routrel: 1\nname: x\ndevices: {../../x: {}}", "not a name"),
        (b"routrel: 1\nname: x\n? [a]\n: b", "a key must be plain text"),
    ],
)
def test_a_broken_text_is_refused_with_its_place(data, said):
    message = refusal(data)
    assert said in message
    assert "network.yaml:" in message


def test_a_large_file_is_refused_before_it_is_parsed():
    assert "too large" in refusal(b"#" * (MAX_BYTES + 1))


def test_json_errors_say_line_and_column():
    assert "n.json:1:28: this is not JSON" in refusal(b'{"routrel": 1, "name": "x",}', "n.json")
    assert "not JSON" in refusal(b"[" * 100_000, "n.json") or "nested" in refusal(b"[" * 100_000, "n.json")


def test_json_is_a_network_file_too_with_its_escapes():
    text = '{"routrel": 1,\n\t"name": "ferry \\ud83d\\udea2 \\/ \\u00e9"}'
    assert read_files({"n.json": text.encode()}).name == "ferry 🚢 / é"


def test_names_with_markup_and_formulas_stay_text():
    network = read_files(
        {"n.yaml": b"routrel: 1\nname: '<script>alert(1)</script>'\nendpoints: {x: {address: 10.0.0.1, label: '=1+1'}}"}
    )
    assert network.name == "<script>alert(1)</script>"
    assert network.endpoints["x"].label == "=1+1"


def zipped(files: dict[str, bytes], **more) -> bytes:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in files.items():
            archive.writestr(name, data)
        for name, attributes in more.items():
            member = zipfile.ZipInfo(name)
            member.external_attr = attributes
            archive.writestr(member, b"x")
    return buffer.getvalue()


@pytest.mark.parametrize("path", ["../../etc/x.yaml", "/etc/x.yaml", "a/../../x.yaml", "c:/x.yaml", "..\\x.yaml"])
def test_an_archive_that_names_places_outside_is_refused(path):
    assert "names a place outside" in refusal(zipped({path: b"x"}), "a.zip")


def test_other_bad_archives_are_refused():
    good = zipped({"network.yaml": b"routrel: 1\nname: x\n"})
    assert "cannot be read" in refusal(good[:60], "a.zip")
    assert "unpacks to too much" in refusal(zipped({"network.yaml": b"#" * 60_000_000}), "a.zip")
    assert "holds no network" in refusal(zipped({"readme.md": b"x"}), "a.zip")
    for name in ("readme.txt", "stock.csv", "notes.xml", "edge.mrt"):
        assert "this holds no network" in refusal(zipped({name: b"x"}), "a.zip")
    assert "symbolic link" in refusal(zipped({}, link=0o120777 << 16), "a.zip")
    assert "neither a network folder nor a folder of devices" in refusal(
        zipped({"a.yaml": b"x", "b/c.yaml": b"y"}), "a.zip"
    )


def test_an_archive_whose_sizes_lie_is_stopped_while_reading():
    data = bytearray(zipped({"network.yaml": b"#" * 3_000_000}))
    size = (3_000_000).to_bytes(4, "little")
    assert data.count(size) == 2
    with pytest.raises(LoadError):
        unpack(bytes(data.replace(size, (30).to_bytes(4, "little"))), "a.zip")


NETWORK = b"routrel: 1\nname: x\ndevices: {" + b", ".join(b"r%d: {kind: router}" % i for i in range(60)) + b"}\n"


@given(st.lists(st.tuples(st.integers(0, 2000), st.integers(0, 255)), min_size=1, max_size=4))
@example([(270, 0)])  # a file without a name
@settings(max_examples=examples(300))
def test_an_archive_with_any_bytes_changed_is_read_or_refused(changes):
    data = bytearray(zipped({"network.yaml": NETWORK}))
    for position, value in changes:
        data[4 + position % (len(data) - 4)] = value
    try:
        files, refused = files_of_upload("a.zip", bytes(data)), []
    except LoadError as error:
        files, refused = {}, error.errors
    assert bool(files) != bool(refused)


@pytest.mark.parametrize("method", [zipfile.ZIP_BZIP2, zipfile.ZIP_LZMA])
def test_unusual_packing_is_refused(method):
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", method) as archive:
        archive.writestr("network.yaml", NETWORK)
    assert "packed in an unusual way" in refusal(buffer.getvalue(), "a.zip")


def test_an_archive_of_a_folder_is_read_without_the_folder_name():
    files = {"ferries/network.yaml": b"routrel: 1\nname: x\n", "ferries/devices/r1.yaml": b"kind: router\n"}
    assert list(read_files(files_of_upload("a.zip", zipped(files))).devices) == ["r1"]


def test_a_folder_without_a_network_is_refused(tmp_path):
    with pytest.raises(LoadError, match="holds no network"):
        files_of(tmp_path)
    with pytest.raises(LoadError, match="no such file"):
        files_of(tmp_path / "nowhere")


def test_a_folder_reports_errors_of_all_its_files_and_refuses_strays():
    files = {
        "network.yaml": b"routrel: 1\nname: x\nlinks: [[r1:e1, r2:e1]]\n",
        "devices/r1.yaml": b"interfaces: {e1: {adresses: []}}",
        "devices/r2.yaml": b"interfaces: {e1: {mtu: big}}",
        "stray.yaml": b"x",
    }
    with pytest.raises(LoadError) as caught:
        read_files(files)
    text = str(caught.value)
    for part in ("devices/r1.yaml:1:19", "did you mean addresses?", "devices/r2.yaml:1:24", "stray.yaml:1:1"):
        assert part in text


def test_all_errors_of_a_file_come_at_once_in_its_order():
    found = errors("devices:\n  r1: {kind: rooter, interfaces: {e1: {acl_in: x, mtu: 5}}}\nlinks: [[r1:e9, r2:e1]]\n")
    assert len(found) == 5
    assert "did you mean router?" in found[0]
    assert [line.split(":")[1] for line in found] == sorted(line.split(":")[1] for line in found)


def read_or_refused(files: dict[str, bytes]) -> bool:
    """Nothing but a network or a list of errors ever comes out."""
    try:
        return bool(read_files(files))
    except LoadError as error:
        return bool(error.errors)


@given(st.binary(max_size=300))
@settings(max_examples=examples(300))
def test_any_bytes_are_read_or_refused(data):
    assert read_or_refused({"network.yaml": data})


TEXTS = st.text(st.sampled_from("abr12:{}[]-, \n\"'&*#|>!?.%@`"), max_size=80)


@given(TEXTS)
@settings(max_examples=examples(300))
def test_any_yaml_like_text_is_read_or_refused(text):
    assert read_or_refused({"network.yaml": f"routrel: 1\nname: x\ndevices:\n  {text}".encode()})


JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=8), inner, max_size=4),
    max_leaves=12,
)
KEYS = ("devices", "links", "sites", "endpoints", "services", "taken_at")


@given(st.dictionaries(st.sampled_from(KEYS), JSON, max_size=4))
@settings(max_examples=examples(200))
def test_any_json_under_the_known_keys_is_read_or_refused(document):
    assert read_or_refused({"n.json": json.dumps({"routrel": 1, "name": "x", **document}).encode()})
