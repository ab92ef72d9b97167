"""A router r and three hosts in network namespaces: rulesets loaded, flows sent, captures taken."""

import contextlib
import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

LEGS = {"a": ("lan", 1), "b": ("dmz", 2), "c": ("wan", 3)}
AGENT = Path(__file__).parent / "agent.py"


def can_run() -> str:
    """Why the kernel cannot be asked here, or ''."""
    if os.geteuid() != 0:
        return "needs root"
    for command in (["ip", "-V"], ["nft", "--version"]):
        try:
            subprocess.run(command, check=True, capture_output=True)
        except (OSError, subprocess.CalledProcessError):
            return f"needs {command[0]}"
    name = f"routrel-try-{os.getpid()}"
    steps = [["ip", "netns", "add", name], ["ip", "netns", "exec", name, "nft", "add", "table", "inet", "t"]]
    try:
        for step in steps:
            if subprocess.run(step, capture_output=True).returncode:
                return f"the kernel refuses: {' '.join(step)}"
    finally:
        subprocess.run(["ip", "netns", "del", name], capture_output=True)
    return ""


class Lab:
    """The namespaces, made by entering and removed by leaving."""

    def __init__(self) -> None:
        self.prefix = f"routrel{os.getpid()}"
        self.agents: dict[str, subprocess.Popen[str]] = {}
        self.next_port = 20000

    def name(self, device: str) -> str:
        return f"{self.prefix}-{device}"

    def run(self, device: str, *command: str) -> str:
        """A command inside a device."""
        done = subprocess.run(["ip", "netns", "exec", self.name(device), *command], capture_output=True, text=True)
        if done.returncode:
            raise RuntimeError(f"{device}: {' '.join(command)}: {done.stderr}")
        return done.stdout

    def __enter__(self) -> "Lab":
        for device in "abcr":
            subprocess.run(["ip", "netns", "add", self.name(device)], check=True)
            self.run(device, "ip", "link", "set", "lo", "up")
        self.run("r", "sysctl", "-qw", "net.ipv4.ip_forward=1", "net.ipv6.conf.all.forwarding=1")
        for device, (leg, number) in LEGS.items():
            self._cable(device, leg, number)
        for device in "abcr":
            command = ["ip", "netns", "exec", self.name(device), sys.executable, str(AGENT)]
            self.agents[device] = subprocess.Popen(
                command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, stderr=subprocess.DEVNULL
            )
        for agent in self.agents.values():
            assert agent.stdout is not None
            agent.stdout.readline()
        return self

    def _cable(self, device: str, leg: str, number: int) -> None:
        far = ["netns", self.name("r")]
        subprocess.run(
            ["ip", "-n", self.name(device), "link", "add", "e0", "type", "veth", "peer", "name", leg, *far], check=True
        )
        macs = {}
        for end, interface, last in ((device, "e0", 2), ("r", leg, 1)):
            self.run(end, "sysctl", "-qw", f"net.ipv6.conf.{interface}.accept_dad=0")
            self.run(end, "ip", "address", "add", f"10.0.{number}.{last}/24", "dev", interface)
            self.run(end, "ip", "-6", "address", "add", f"fd0{number}::{last}/64", "dev", interface, "nodad")
            self.run(end, "ip", "link", "set", interface, "up")
            macs[end] = json.loads(self.run(end, "ip", "-j", "link", "show", interface))[0]["address"]
        for near, interface, last, other in ((device, "e0", 1, "r"), ("r", leg, 2, device)):
            for address in (f"10.0.{number}.{last}", f"fd0{number}::{last}"):
                # Neighbour discovery passes by the rules: they are not what is looked at.
                self.run(
                    near, "ip", "neighbor", "add", address, "lladdr", macs[other], "dev", interface, "nud", "permanent"
                )
        self.run(device, "ip", "route", "add", "default", "via", f"10.0.{number}.1")
        self.run(device, "ip", "-6", "route", "add", "default", "via", f"fd0{number}::1")

    def __exit__(self, *_: object) -> None:
        for agent in self.agents.values():
            agent.kill()
            agent.wait()
        for device in "abcr":
            subprocess.run(["ip", "netns", "del", self.name(device)], capture_output=True)

    def load(self, ruleset: str) -> str:
        """Load a ruleset in place of what there is; the error where it is refused."""
        text = f"flush ruleset\n{ruleset}\n"
        command = ["ip", "netns", "exec", self.name("r"), "nft", "-f", "-"]
        return subprocess.run(command, input=text, capture_output=True, text=True).stderr

    def route(self, commands: list[str]) -> None:
        """Rules and routes on r in place of those that earlier calls made; what ip refuses is left out."""
        for family in ("-4", "-6"):
            self.run("r", "ip", family, "rule", "flush")
            for table, priority in (("local", "0"), ("main", "32766")):
                done = ["ip", "netns", "exec", self.name("r"), "ip", family, "rule", "add"]
                subprocess.run([*done, "lookup", table, "priority", priority], capture_output=True)
            for table in ("100", "101"):
                subprocess.run(
                    ["ip", "-n", self.name("r"), family, "route", "flush", "table", table], capture_output=True
                )
        for command in commands:
            subprocess.run(["ip", "netns", "exec", self.name("r"), *command.split()], capture_output=True)

    def captures(self) -> dict[str, bytes]:
        """The capture folder, by the commands of docs/captures.md."""
        commands = {
            "addresses.json": "ip -j -d address show",
            "routes.json": "ip -j route show table all",
            "routes6.json": "ip -j -6 route show table all",
            "rules.json": "ip -j rule show",
            "rules6.json": "ip -j -6 rule show",
            "netconf.json": "ip -j netconf show",
            "filters.json": "nft -j list ruleset",
            "neighbors.json": "ip -j neighbor show",
        }
        return {
            f"{device}/{file}": self.run(device, *command.split()).encode()
            for device in "abcr"
            for file, command in commands.items()
        }

    def send(self, flows: list[dict[str, Any]]) -> list[bool]:
        """Whether each flow was answered; every flow has a source port of its own."""
        by_device: dict[str, list[int]] = {device: [] for device in "abcr"}
        for index, flow in enumerate(flows):
            flow["source_port"] = self.next_port
            self.next_port = 20000 + (self.next_port - 19999) % 40000
            by_device[flow["from"]].append(index)
        answers = [False] * len(flows)
        for device, indices in by_device.items():
            agent = self.agents[device]
            assert agent.stdin is not None
            with contextlib.suppress(BrokenPipeError):
                agent.stdin.write(json.dumps([flows[index] for index in indices]) + "\n")
                agent.stdin.flush()
        for device, indices in by_device.items():
            stdout = self.agents[device].stdout
            assert stdout is not None
            for index, answer in zip(indices, json.loads(stdout.readline()), strict=True):
                answers[index] = answer
        return answers
