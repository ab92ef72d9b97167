"""The command line: shapes, exit statuses, and errors that say where."""

import json

import pytest

from routrel.cli import main
from tests.core.networks import router
from tests.core.test_walk import lan


@pytest.fixture
def network(tmp_path):
    path = tmp_path / "network.yaml"
    path.write_text(
        "routrel: 1\nname: test\n" + lan("{e: [{action: drop, protocol: udp}, {action: accept}]}", ", acl_in: e")
    )
    return str(path)


def run(capsys, *arguments: str) -> tuple[int, str, str]:
    status = main(arguments)
    captured = capsys.readouterr()
    return status, captured.out, captured.err


def test_routes_in_the_agreed_shape(network, capsys):
    status, out, _ = run(capsys, "routes", network, "--device", "h1", "--json")
    rows = json.loads(out)["routes"]
    assert status == 0
    assert [row["prefix"] for row in rows] == ["0.0.0.0/0", "10.0.1.0/24", "10.0.1.10/32"]
    assert rows[0] == {
        "device": "h1",
        "vrf": "default",
        "prefix": "0.0.0.0/0",
        "protocol": "static",
        "kind": "",
        "tag": None,
        "preference": 1,
        "metric": 0,
        "action": "forward",
        "next_hops": [{"address": "10.0.1.1", "interface": "e1", "device": "r"}],
    }
    assert rows[1]["next_hops"] == [{"address": None, "interface": "e1", "device": None}]


def test_routes_are_sorted_and_can_be_narrowed(network, capsys):
    rows = json.loads(run(capsys, "routes", network, "--json")[1])["routes"]
    assert [row["device"] for row in rows] == sorted(row["device"] for row in rows)
    narrowed = json.loads(run(capsys, "routes", network, "--prefix", "10.0.2.0/24", "--json")[1])["routes"]
    assert {row["device"] for row in narrowed} == {"r", "h2"}
    assert "10.0.2.0/24" in run(capsys, "routes", network)[1]


def test_exit_status_tells_the_answer(network, capsys):
    assert run(capsys, "walk", network, "--from", "h1", "--to", "h2")[0] == 0
    status, out, _ = run(capsys, "walk", network, "--from", "h1", "--to", "h2", "--service", "udp/53")
    assert status == 1
    assert "entry 1 of ACL e drops" in out
    assert "network.yaml:" in out
    assert run(capsys, "walk", network, "--from", "h2", "--to", "h1", "--service", "udp/53", "--no-return")[0] == 0
    assert run(capsys, "check", network)[0] == 0


def test_many_flows_in_one_call(network, capsys, tmp_path):
    flows = tmp_path / "flows.json"
    flows.write_text(
        json.dumps([{"from": "h1", "to": "h2", "service": "tcp/80", "source_port": 999}, {"from": "x", "to": "h1"}])
    )
    status, out, _ = run(capsys, "walk", network, "--flows", str(flows), "--json")
    first, second = json.loads(out)["walks"]
    assert status == 1
    assert first["flow"] == {
        "from": "h1",
        "to": "h2",
        "service": "tcp/80",
        "source_port": 999,
        "enter": None,
        "vrf": None,
    }
    assert first["forward"]["verdict"] == "arrives"
    assert "no device" in second["error"]
    assert "no device" in run(capsys, "walk", network, "--flows", str(flows))[1]


@pytest.mark.parametrize(
    ("flows", "said"),
    [
        ("[", "flows.json:1:2: this is not JSON"),
        ('[{"from": "a"}]', "flows.json:1:2: a flow needs 'to' as text"),
        ('[{"from": "a", "to": "b", "size": 5}]', "unknown key 'size'"),
        ('[{"from": "a", "to": "b", "source_port": "x"}]', "'source_port' must be an integer"),
        ('[{"from": "a", "to": "b", "service": 5}]', "'service' must be text"),
    ],
)
def test_a_bad_list_of_flows_is_refused(network, capsys, tmp_path, flows, said):
    path = tmp_path / "flows.json"
    path.write_text(flows)
    status, out, err = run(capsys, "walk", network, "--flows", str(path))
    assert (status, out) == (2, "")
    assert said in err


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (("walk", "NET"), "needs --from and --to"),
        (("walk", "NET", "--from", "h1", "--to", "nobody"), "no device"),
        (("walk", "NET", "--flows", "nowhere.json"), "no file"),
        (("routes", "NET", "--device", "nobody"), "no device"),
        (("routes", "NET", "--device", "10.0.1.1"), "no device"),
        (("routes", "NET", "--prefix", "10.0.0.1/8"), "--prefix"),
        (("routes", "NET", "--vrf", "red"), "no routing instance"),
        (("check", "/nowhere"), "no such file"),
    ],
)
def test_a_wrong_call_exits_with_2_and_says_why(network, capsys, arguments, said):
    status, out, err = run(capsys, *(network if word == "NET" else word for word in arguments))
    assert (status, out) == (2, "")
    assert said in err


def test_every_error_of_a_file_goes_to_standard_error(tmp_path, capsys):
    path = tmp_path / "bad.yaml"
    path.write_text("routrel: 1\nname: x\ndevices: {r1: {kind: rooter, vrfs: []}}\n")
    status, out, err = run(capsys, "check", str(path), "--json")
    assert (status, out) == (2, "")
    assert len(err.splitlines()) == 2


def test_problems_as_data(network, capsys, tmp_path):
    path = tmp_path / "n.yaml"
    path.write_text(
        "routrel: 1\nname: x\ndevices: {a: {interfaces: {e1: {addresses: [10.0.0.1/24]}, e2: {addresses: [10.0.0.1/24]}}}}\n"
    )
    status, out, _ = run(capsys, "check", str(path), "--json")
    findings = json.loads(out)["findings"]
    assert status == 1
    assert findings[0]["code"] == "duplicate-address"
    assert findings[0]["places"][0] == {"file": "n.yaml", "line": 3, "column": 45}
    assert json.loads(run(capsys, "schema")[1])["title"].startswith("Routrel")


def test_what_was_not_foreseen_is_one_line_and_no_traceback(monkeypatch, capsys, tmp_path):
    def fail(*_):
        raise KeyError("surprise")

    monkeypatch.setattr("routrel.cli_check.solve", fail)
    path = tmp_path / "network.yaml"
    path.write_text("routrel: 1\nname: n\n")
    assert main(["check", str(path)]) == 2
    said = capsys.readouterr().err
    assert "something went wrong here" in said and "surprise" in said and said.count("\n") == 1


def test_a_list_of_flows_is_good_by_the_rule_of_one(tmp_path, capsys):
    """A flow to a device of the model that leaves it instead is not as asked, alone or in a list."""
    path = tmp_path / "network.yaml"
    path.write_text(
        "routrel: 1\nname: n\ndevices:\n"
        + router(
            "a",
            {"e1": "addresses: [10.1.0.1/24]", "e2": "addresses: [10.2.0.1/30]"},
            "static: [{prefix: 10.9.0.1/32, next_hop: 10.2.0.2}]",
        )
        + router("b", {"lo": "addresses: [10.9.0.1/32]"})
    )
    alone = main(["walk", str(path), "--from", "a:e1", "--to", "10.9.0.1", "--no-return"])
    capsys.readouterr()
    flows = tmp_path / "flows.json"
    flows.write_text('[{"from": "a:e1", "to": "10.9.0.1"}]')
    listed = main(["walk", str(path), "--flows", str(flows), "--no-return", "--json"])
    (walk,) = json.loads(capsys.readouterr().out)["walks"]
    assert (alone, listed, walk["good"]) == (1, 1, False), walk["forward"]["verdict"]


def test_evidence_says_what_was_looked_at_at_every_stop(network, capsys):
    status, out, _ = run(capsys, "walk", network, "--from", "h1", "--to", "h2", "--service", "udp/53", "--evidence")
    assert status == 1
    assert "stop by stop" in out and "x ACL e on" in out
    status, out, _ = run(capsys, "walk", network, "--from", "h1", "--to", "h2", "--evidence", "--json")
    walk = json.loads(out)
    assert status == 0 and walk["forward"]["stops"][-1]["decided"].endswith("is its own")


def test_a_table_is_printed_in_columns_and_as_rows(network, capsys):
    status, out, _ = run(capsys, "table", network, "h1")
    assert status == 0
    assert out.splitlines()[0].split() == ["0.0.0.0/0", "static", "1/0", *out.splitlines()[0].split()[3:]]
    assert len(json.loads(run(capsys, "table", network, "h1", "--json")[1])["routes"]) == len(out.splitlines())
    assert run(capsys, "table", network, "nobody")[0] == 2


@pytest.mark.parametrize(
    ("word", "found"),
    [
        ("10.0.1.10", ("h1:e1", "owner", "10.0.1.10/24")),
        ("10.0.1.77", ("h1:e1", "on", "subnet", "10.0.1.10/24")),
        ("10.0.1.0/24", ("10.0.1.0/24", "prefix")),
        ("h1", ("h1", "host")),
    ],
)
def test_a_word_is_found(network, capsys, word, found):
    status, out, _ = run(capsys, "find", network, word)
    assert status == 0
    assert any(tuple(line.split())[: len(found)] == found for line in out.splitlines()), out


def test_a_search_is_cut(network, capsys, monkeypatch):
    monkeypatch.setattr("routrel.analysis.search.MOST_FOUND", 2)
    assert len(run(capsys, "find", network, "10.0.1.77")[1].splitlines()) == 2


def test_an_acl_is_found_by_name_and_nothing_is_said_so(network, capsys):
    assert any(line.split()[:2] == ["e", "ACL"] for line in run(capsys, "find", network, "e")[1].splitlines())
    assert run(capsys, "find", network, "zzz") == (1, "nothing of this name\n", "")


def test_on_a_terminal_columns_have_titles(network, capsys, monkeypatch):
    monkeypatch.setattr("sys.stdout.isatty", lambda: True)
    monkeypatch.setenv("COLUMNS", "100")
    status, out, _ = run(capsys, "table", network, "h1")
    assert status == 0 and "next hops" in out and "10.0.1.10/32" in out


@pytest.mark.parametrize("shell", ["bash", "zsh"])
def test_a_shell_completes_the_commands(capsys, shell):
    status, out, _ = run(capsys, "completion", shell)
    assert status == 0 and "--evidence" in out


def test_two_networks_are_held_against_each_other(network, tmp_path, capsys):
    other = tmp_path / "other.yaml"
    other.write_text((tmp_path / "network.yaml").read_text().replace("protocol: udp", "protocol: tcp"))
    flows = tmp_path / "flows.json"
    flows.write_text(json.dumps([{"from": "h1", "to": "h2", "service": "tcp/80"}]))
    assert run(capsys, "diff", network, network) == (0, "no difference\n", "")
    status, out, _ = run(capsys, "diff", network, str(other), "--flows", str(flows))
    assert status == 1 and "acls" in out and "~ flow h1 > h2 tcp/80: arrives" in out
    found = json.loads(run(capsys, "diff", network, str(other), "--flows", str(flows), "--json")[1])
    assert found["routes_changed"] == 0 and found["flows"][0]["changed"] is True
    assert run(capsys, "diff", network, str(tmp_path / "none.yaml"))[0] == 2


def test_try_says_what_else_changes_and_fails_where_something_broke(network, capsys):
    status, out, _ = run(
        capsys, "try", network, "--change", "set: acl_in, at: r:e1, to: null", "--flow", "h1 > h2 udp/53"
    )
    assert status == 0 and "pairs of places change; nothing else does" in out and "+ newly gets through" in out
    status, out, _ = run(capsys, "try", network, "--change", "disable: interface, at: r:e2", "--json")
    found = json.loads(out)
    assert status == 1
    assert found["held"]["effects"][0]["effect"] == "blocked" and found["tried"]["changes"]
    # What was asked holds, but not without breaking something else.
    arguments = (
        "try",
        network,
        "--change",
        "add: acl_entry, at: r, acl: e, before: 1, entry: {action: drop, protocol: tcp}",
    )
    status, out, _ = run(capsys, *arguments, "--flow", "h1 > h2 icmp")
    assert status == 1 and "- no longer gets through" in out


def test_walk_says_what_cures_a_flow_by_what_else_it_moves(network, capsys):
    arguments = ("walk", network, "--from", "h1", "--to", "h2", "--remedies")
    status, out, _ = run(capsys, *arguments, "--service", "udp/53")
    assert status == 0 and out.splitlines()[1] == "   cures it; nothing else moves"
    status, out, _ = run(capsys, *arguments, "--service", "icmp")
    assert (status, out) == (0, "it works: there is nothing to cure\n")


def test_lead_says_what_leads_a_flow_past_a_device_and_why_nothing_does(network, capsys):
    status, out, _ = run(capsys, "lead", network, "h1 > h2", "--by", "r")
    assert (status, out) == (0, "it goes that way already\n")
    status, out, _ = run(capsys, "lead", network, "h1 > h2", "--past", "r")
    assert status == 1 and out.splitlines()[-1] == "no change that is offered leads it that way"
    status, _, err = run(capsys, "lead", network, "h1 > h2")
    assert status == 2 and "it is not said which devices" in err


def test_what_is_expected_is_held_with_an_exit_status_for_pipelines(tmp_path, capsys):
    network, file, report = tmp_path / "network.yaml", tmp_path / "expected.yaml", tmp_path / "report.xml"
    network.write_text("routrel: 1\nname: n\ndevices:\n  a: {interfaces: {e: {addresses: [10.0.0.1/24]}}}\n")
    file.write_text("- {name: itself, from: a, to: 10.0.0.1}\n- {name: more, from: a, to: 10.0.0.2, severity: note}\n")
    status, out, _ = run(capsys, "check", str(network), "--expectations", str(file), "--junit", str(report))
    assert status == 0 and out.startswith("1 of 2 expectations holds") and "<skipped" in report.read_text()
    file.write_text("- {name: more, from: a, to: 10.0.0.2}\n")
    status, out, _ = run(capsys, "check", str(network), "--expectations", str(file), "--json")
    assert status == 1 and json.loads(out)["expectations"][0]["state"] == "fails"


def test_failures_are_tried_against_what_is_expected_and_against_all_traffic(network, tmp_path, capsys):
    file = tmp_path / "expected.yaml"
    file.write_text(
        "- {name: names, from: h1, to: h2, on: udp/53, expect: never arrives}\n- {name: web, from: h1, to: r}\n"
    )
    status, out, _ = run(capsys, "check", network, "--stress", "links")
    assert status == 0 and "failures cut off some of" in out and "- without link" in out
    expected = ("check", network, "--expectations", str(file))
    status, out, _ = run(capsys, *expected, "--stress", "links", "--two-at-once", "--json")
    assert status == 0 and json.loads(out)["failures_tried"] == 1
    status, out, _ = run(capsys, *expected, "--leans-on", "names")
    assert status == 0 and out.startswith("names: ") and "carries: device r" in out


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (["--expectations"], "this network has no expectations"),
        (["--expectations", "nowhere.yaml"], "there is no file 'nowhere.yaml'"),
        (["--two-at-once"], "they need --expectations"),
        (["--leans-on", "one"], "they need --expectations"),
        (["--stress", "cables"], "'cables' is nothing that can fail"),
        (["--expectations", "FILE", "--two-at-once"], "--two-at-once needs --stress"),
        (["--expectations", "FILE", "--leans-on", "itsel"], "there is no expectation 'itsel'; did you mean 'itself'?"),
        (["--expectations", "FILE", "--stress", "cables"], "'cables' is nothing that can fail; allowed: links"),
        (["--expectations", "FILE", "--junit", "nowhere/report.xml"], "'nowhere/report.xml' cannot be written"),
    ],
)
def test_a_call_about_expectations_that_cannot_be_carried_out_says_why(tmp_path, capsys, arguments, message):
    network, file = tmp_path / "network.yaml", tmp_path / "expected.yaml"
    network.write_text("routrel: 1\nname: n\ndevices:\n  a: {interfaces: {e: {addresses: [10.0.0.1/24]}}}\n")
    file.write_text("- {name: itself, from: a, to: 10.0.0.1}\n")
    status, _, said = run(capsys, "check", str(network), *[str(file) if one == "FILE" else one for one in arguments])
    assert status == 2 and message in said
