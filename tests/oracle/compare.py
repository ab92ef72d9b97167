#!/usr/bin/env python3
"""Compare a program's answers with the golden data of real routers.

  compare.py CASES_DIR --routrel 'CMD' [--family F ...] [--case NAME ...] [--captures] [--json] [--show N] [--jobs N] [--strict]

Per case: CMD routes NETWORK --json, and CMD walk NETWORK --flows FILE --json for the recorded flows (or, where that
fails, CMD walk NETWORK --from … --to … --json for each).
Exit status 0: everything equal; 1: a mismatch (or, with --strict, a difference of detail); 2: wrong call.

Rows: same (device, prefix) set, protocol, action, next hops (address, interface), metric where the golden row has
one. Left aside on both sides: `local` rows, host-length connected rows (a router's own loopback), link-local and
multicast prefixes, VRFs other than default, and the case's `ignore_prefixes` and `ignore_rows`. An IPv6 link-local next hop is compared
by interface and neighbouring device, because the file need not name the address.
Walks: forward verdict `arrives` iff the packet was received; both `arrives` iff the answer came back; every recorded
hop list is one of the paths; a flow that arrived from some source ports and not from others (equal-cost paths
disagree) must be `mixed`. A `mixed` answer for an icmp flow that was seen to come out one way is counted undecided
(its hash takes one path only; the sampled flows show no more).
Details (own column): the kind of failure (blocked, unrouted, discarded, loops) and the ACL entry that dropped it.
"""

import argparse
import concurrent.futures as cf
import ipaddress
import json
import pathlib
import shlex
import subprocess
import sys
import tempfile


def call(cmd, args, timeout):
    try:
        r = subprocess.run(cmd + args, capture_output=True, text=True, timeout=timeout)
    except subprocess.TimeoutExpired:
        return None, f"timeout after {timeout} s"
    if r.returncode not in (0, 1):
        return None, f"exit {r.returncode}: {r.stderr.strip()[:300]}"
    try:
        return json.loads(r.stdout), None
    except ValueError as e:
        return None, f"not one JSON document ({e}): {r.stdout[:120]!r} {r.stderr.strip()[:200]}"


def batch(cmd, net, walks, timeout):
    """All flows in one call (`walk NETWORK --flows FILE --json`); None where the program cannot: then one call each."""
    flows = [{k: w[k] for k in ("from", "to", "service", "source_port") if w.get(k) is not None} for w in walks]
    with tempfile.NamedTemporaryFile("w", suffix=".json") as f:
        json.dump(flows, f)
        f.flush()
        doc, err = call(cmd, ["walk", net, "--flows", f.name, "--json"], timeout)
    answers = None if err or not isinstance(doc, dict) else doc.get("walks")
    return answers if isinstance(answers, list) and len(answers) == len(walks) else None


def rows_of(doc, ignore, ignore_rows=()):
    out = {}
    for r in doc["routes"]:
        n = ipaddress.ip_network(r["prefix"])
        if (
            r.get("vrf", "default") != "default"
            or n.is_link_local
            or n.is_multicast
            or str(n) in ignore
            or (r["device"], str(n)) in ignore_rows
        ):
            continue
        if r["protocol"] == "local" or (r["protocol"] == "connected" and n.prefixlen == n.max_prefixlen):
            continue
        out[r["device"], str(n)] = r
    return out


def is_ll(a):
    return a is not None and ipaddress.ip_address(a.split("%")[0]).is_link_local


def hops_key(r, by_device):
    s = set()
    for h in r.get("next_hops") or []:
        a = h.get("address")
        a = str(ipaddress.ip_address(a.split("%")[0])) if a else None
        s.add((h.get("interface"), h.get("device") if by_device else a))
    return s


def show_hops(r):
    return "[" + ", ".join(f"{h.get('address')}@{h.get('interface')}" for h in r.get("next_hops") or []) + "]"


def cmp_row(g, r):
    d = []
    if g["protocol"] != r["protocol"]:
        d.append(f"protocol {r['protocol']} instead of {g['protocol']}")
    if g["action"] != r.get("action", "forward"):
        d.append(f"action {r.get('action')} instead of {g['action']}")
    ll = any(is_ll(h["address"]) for h in g["next_hops"])
    if g["action"] == "forward" and hops_key(g, ll) != hops_key(r, ll):
        d.append(f"next hops {show_hops(r)} instead of {show_hops(g)}")
    if g["action"] == "forward" and len(r.get("next_hops") or []) != len(hops_key(r, ll)):
        d.append("a next hop stands twice")
    if g.get("metric") is not None and r.get("metric") != g["metric"]:
        d.append(f"metric {r.get('metric')} instead of {g['metric']}")
    if g.get("preference") is not None and r.get("preference") is not None and r["preference"] != g["preference"]:
        d.append(f"preference {r['preference']} instead of {g['preference']}")
    return d


def cmp_walk(w, doc, captured=False):
    """(differences, undecided, details compared, detail differences)"""
    d, det, ndet, und = [], [], 0, False
    f, b = doc.get("forward") or {}, doc.get("return") or {}
    fv, bv = f.get("verdict"), b.get("verdict")
    icmp = w["service"] == "icmp"
    if w.get("forward_mixed"):
        if fv != "mixed":
            d.append(f"forward {fv}, but some source ports arrive and some do not")
    elif fv == "mixed" and icmp:
        und = True
    elif (fv == "arrives") != w["forward_arrives"]:
        d.append(f"forward {fv}, but the packet {'arrived' if w['forward_arrives'] else 'did not arrive'}")
    if not w.get("forward_mixed") and not und and w["forward_arrives"]:
        if w.get("return_mixed"):
            if bv != "mixed":
                d.append(f"return {bv}, but some answers come back and some do not")
        elif bv == "mixed" and icmp:
            und = True
        elif (fv == "arrives" and bv == "arrives") != w["round_trip"]:
            d.append(
                f"forward {fv}, return {bv}, but the answer {'came back' if w['round_trip'] else 'did not come back'}"
            )
    for key, side in (("hops", f), ("return_hops", b), ("return_hops_seen", b)):
        if key in w and not und and not (key != "hops" and fv != "arrives") and side.get("path_count", 0) <= 64:
            if w[key] not in (side.get("paths") or []):
                d.append(f"{key} {'-'.join(w[key])} not among {['-'.join(p) for p in (side.get('paths') or [])][:4]}")
    for p in w.get("paths_seen", []):
        if (
            f.get("path_count", 0) <= 64
            and p not in (f.get("paths") or [])
            and f"hops {'-'.join(p)}" not in " ".join(d)
        ):
            d.append(f"real path {'-'.join(p)} not among the paths")
    for side, v, s in (("forward", fv, f), ("return", bv, b)):
        if w.get(f"{side}_verdict") and not und:
            ndet += 1
            if v != w[f"{side}_verdict"]:
                det.append(f"{side} verdict {v} instead of {w[f'{side}_verdict']}")
            elif w.get(f"{side}_cause") and not captured:  # read off nft, lists and entries have other names
                c = w[f"{side}_cause"]
                if not any(
                    x.get("device") == c["device"] and x.get("acl") == c["acl"] and x.get("entry") == c["entry"]
                    for x in s.get("causes") or []
                ):
                    det.append(f"{side} cause {s.get('causes')} instead of {c}")
    return d, und, ndet, det


def case(path, cmd, a):
    golden = json.loads((path / "routes.json").read_text())
    walks = json.loads((path / "walks.json").read_text())["walks"]
    meta = json.loads((path / "case.json").read_text()) if (path / "case.json").exists() else {}
    ignore = set(meta.get("ignore_prefixes", []))
    irows = {tuple(x) for x in meta.get("ignore_rows", [])}
    res = dict(
        case=path.name,
        family=meta.get("family", path.name.rsplit("-", 1)[0]),
        rows=0,
        rows_equal=0,
        walks=0,
        walks_equal=0,
        undecided=0,
        details=0,
        details_equal=0,
        mismatches=[],
        detail_mismatches=[],
    )
    net = str(path / ("captures" if a.captures else "network.yaml"))
    if not a.captures:
        doc, err = call(cmd, ["routes", net, "--json"], a.timeout)
        g = rows_of(golden, ignore, irows)
        if err:
            res["rows"] = len(g)
            res["mismatches"].append(f"routes: {err}")
        else:
            try:
                r = rows_of(doc, ignore, irows)
                for k in sorted(set(g) | set(r)):
                    res["rows"] += 1
                    if k not in r:
                        res["mismatches"].append(f"{k[0]} {k[1]}: missing ({g[k]['protocol']} {show_hops(g[k])})")
                    elif k not in g:
                        res["mismatches"].append(
                            f"{k[0]} {k[1]}: not in the real router ({r[k]['protocol']} {show_hops(r[k])})"
                        )
                    else:
                        d = cmp_row(g[k], r[k])
                        if d:
                            res["mismatches"].append(f"{k[0]} {k[1]}: " + "; ".join(d))
                        else:
                            res["rows_equal"] += 1
            except (KeyError, TypeError, ValueError, AttributeError) as e:
                res["rows"] = max(res["rows"], len(g))
                res["mismatches"].append(f"routes: answer not in the agreed shape: {type(e).__name__} {e}")
    answers = batch(cmd, net, walks, a.timeout)
    for i, w in enumerate(walks):
        res["walks"] += 1
        if answers is not None:
            doc, err = answers[i], answers[i].get("error")
        else:
            args = ["walk", net, "--from", w["from"], "--to", w["to"], "--service", w["service"]]
            if w.get("source_port") is not None:
                args += ["--source-port", str(w["source_port"])]
            doc, err = call(cmd, args + ["--json"], a.timeout)
        name = f"walk {w['from']} -> {w['to']} {w['service']}"
        if err:
            res["mismatches"].append(f"{name}: {err}")
            continue
        try:
            d, und, nd, dd = cmp_walk(w, doc, a.captures)
        except (KeyError, TypeError, AttributeError) as e:
            d, und, nd, dd = [f"answer not in the agreed shape: {type(e).__name__} {e}"], False, 0, []
        if d:
            res["mismatches"].append(f"{name}: " + "; ".join(d))
        elif und:
            res["undecided"] += 1
        else:
            res["walks_equal"] += 1
        res["details"] += nd
        res["details_equal"] += nd - len(dd)
        res["detail_mismatches"] += [f"{name}: {x}" for x in dd]
    return res


def main():
    ap = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    ap.add_argument("cases")
    ap.add_argument("--routrel", required=True)
    ap.add_argument("--family", nargs="*")
    ap.add_argument("--case", nargs="*")
    ap.add_argument(
        "--captures",
        action="store_true",
        help="run the walks against each case's captures/ folder (cases that have one)",
    )
    ap.add_argument("--json", action="store_true")
    ap.add_argument("--show", type=int, default=5)
    ap.add_argument("--jobs", type=int, default=2)
    ap.add_argument("--timeout", type=float, default=120)
    ap.add_argument("--strict", action="store_true", help="differences of detail fail too")
    a = ap.parse_args()
    cmd = shlex.split(a.routrel)
    root = pathlib.Path(a.cases)
    paths = [root] if (root / "routes.json").exists() else sorted(p.parent for p in root.glob("*/routes.json"))
    fam = lambda p: json.loads((p / "case.json").read_text()).get("family") if (p / "case.json").exists() else None  # noqa: E731
    paths = [
        p
        for p in paths
        if (not a.family or fam(p) in a.family)
        and (not a.case or p.name in a.case)
        and (not a.captures or (p / "captures").is_dir())
    ]
    if not paths:
        print("no case matches", file=sys.stderr)
        return 2
    with cf.ThreadPoolExecutor(a.jobs) as ex:
        out = []
        for r in ex.map(lambda p: case(p, cmd, a), paths):
            out.append(r)
            if not a.json:
                ok = "ok  " if not r["mismatches"] else "FAIL"
                print(
                    f"{ok} {r['case']}: rows {r['rows_equal']}/{r['rows']}, walks {r['walks_equal']}/{r['walks']}"
                    + (f" ({r['undecided']} undecided)" if r["undecided"] else "")
                    + f", details {r['details_equal']}/{r['details']}",
                    flush=True,
                )
                for m in r["mismatches"][: a.show]:
                    print("       " + m)
                if len(r["mismatches"]) > a.show:
                    print(f"       … {len(r['mismatches']) - a.show} more")
                for m in r["detail_mismatches"][:2]:
                    print("       detail: " + m)
    keys = ("rows", "rows_equal", "walks", "walks_equal", "undecided", "details", "details_equal")
    tot = {k: sum(r[k] for r in out) for k in keys}
    tot["cases"], tot["cases_equal"] = len(out), sum(1 for r in out if not r["mismatches"])
    tot["mismatches"] = sum(len(r["mismatches"]) for r in out)
    if a.json:
        print(json.dumps({"cases": out, "totals": tot}, indent=1))
    else:
        print(
            f"cases {tot['cases_equal']}/{tot['cases']}, rows {tot['rows_equal']}/{tot['rows']}, walks {tot['walks_equal']}/{tot['walks']}"
            f" ({tot['undecided']} undecided), details {tot['details_equal']}/{tot['details']}, mismatches {tot['mismatches']}"
        )
    return 1 if tot["mismatches"] or (a.strict and tot["details"] != tot["details_equal"]) else 0


if __name__ == "__main__":
    sys.exit(main())
