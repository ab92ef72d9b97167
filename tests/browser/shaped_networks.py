"""Networks of a given shape, for what is drawn and asked of them: OSPF on every cable, hosts on a subnet of their own."""

from typing import Any

Document = dict[str, Any]


class Shaped:
    """A network file as data, built device by device."""

    def __init__(self, name: str):
        self.document: Document = {"routrel": 1, "name": name, "devices": {}, "links": []}
        self.cables = 0

    def site(self, name: str, x: float | None = None, y: float | None = None) -> None:
        place = {} if x is None else {"x": x, "y": y}
        self.document.setdefault("sites", {})[name] = {"label": name.title(), **place}

    def router(self, name: str, site: str | None = None) -> str:
        self._device(name, site, {"interfaces": {}, "routing": {"ospf": {"areas": {"0": {"interfaces": {}}}}}})
        return name

    def host(self, name: str, beside: str, site: str | None = None) -> None:
        self._device(name, site, {"kind": "host", "interfaces": {}})
        (own, _), (_, theirs) = self.cable(name, beside, 24)
        self.document["devices"][name]["gateway"] = theirs
        self._area(beside)[own] = {"passive": True}

    def _device(self, name: str, site: str | None, values: Document) -> None:
        self.document["devices"][name] = values | ({} if site is None else {"site": site})

    def _area(self, name: str) -> Document:
        return self.document["devices"][name]["routing"]["ospf"]["areas"]["0"]["interfaces"]

    def cable(self, one: str, other: str, length: int = 30) -> list[tuple[str, str]]:
        """A cable with a subnet of its own; gives the interface and address at both ends."""
        self.cables += 1
        base = f"10.{64 + self.cables // 250}.{self.cables % 250}"
        ends = []
        for last, device in ((1, one), (2, other)):
            interfaces = self.document["devices"][device]["interfaces"]
            interface = f"e{len(interfaces) + 1}"
            interfaces[interface] = {"addresses": [f"{base}.{last}/{length}"]}
            if "routing" in self.document["devices"][device]:
                self._area(device)[interface] = {}
            ends.append((interface, f"{base}.{last}"))
        names = [f"{one}:{ends[0][0]}", f"{other}:{ends[1][0]}"]
        self.document["links"].append(names)
        return ends


def fabric(spines: int = 4, leaves: int = 12, hosts: int = 2) -> Document:
    """Every leaf on every spine, hosts on the leaves; no sites."""
    made = Shaped("A fabric")
    for spine in range(spines):
        made.router(f"spine{spine + 1}")
    for leaf in range(leaves):
        made.router(f"leaf{leaf + 1}")
        for spine in range(spines):
            made.cable(f"spine{spine + 1}", f"leaf{leaf + 1}")
        for host in range(hosts):
            made.host(f"server{hosts * leaf + host + 1}", f"leaf{leaf + 1}")
    return made.document


def ring_of_sites(sites: int = 8, access: int = 2, hosts: int = 2, placed: bool = False) -> Document:
    """Sites in a ring, each of two core routers on two parallel cables, access routers on both, hosts on those."""
    made = Shaped("A ring of sites")
    for site in range(sites):
        name = f"town{site + 1}"
        made.site(name, *((site % 6) / 6 + 0.08, (site // 6) / 6 + 0.08) if placed else ())
        cores = [made.router(f"{name}-core{one}", name) for one in (1, 2)]
        made.cable(*cores)
        made.cable(*cores)
        for one in range(access):
            router = made.router(f"{name}-acc{one + 1}", name)
            for core in cores:
                made.cable(core, router)
            for host in range(hosts):
                made.host(f"{name}-h{hosts * one + host + 1}", router, name)
        if site > 0:
            made.cable(f"town{site}-core2", f"{name}-core1")
    made.cable(f"town{sites}-core2", "town1-core1")
    return made.document


def hub_and_branches(branches: int = 12) -> Document:
    """A hub with a small fabric of its own in the middle, branches that the file puts around it on two cables each."""
    made = Shaped("A hub and branches")
    made.site("hub", 0.5, 0.5)
    for border in (1, 2):
        made.router(f"hub-edge{border}", "hub")
    for leaf in range(1, 4):
        made.router(f"hub-leaf{leaf}", "hub")
        for border in (1, 2):
            made.cable(f"hub-edge{border}", f"hub-leaf{leaf}")
        made.host(f"hub-app{leaf}", f"hub-leaf{leaf}", "hub")
    for branch in range(1, branches + 1):
        name = f"branch{branch}"
        row, column = divmod(branch - 1, 4)
        made.site(name, 0.05 + 0.3 * column, (0.02, 0.25, 0.98)[row] if row < 3 else 0.75)
        made.router(f"{name}-r", name)
        made.host(f"{name}-till", f"{name}-r", name)
        for border in (1, 2):
            made.cable(f"hub-edge{border}", f"{name}-r")
    return made.document


def tree_with_chords(routers: int = 36) -> Document:
    """A binary tree with some cables across and hosts at its ends; no sites."""
    made = Shaped("A tree with chords")
    for number in range(1, routers + 1):
        made.router(f"node{number}")
        if number > 1:
            made.cable(f"node{number // 2}", f"node{number}")
    for number in range(5, routers, 9):
        made.cable(f"node{number}", f"node{number + 1}")
    made.host("first-host", f"node{routers}")
    made.host("last-host", f"node{routers // 2 + 1}")
    return made.document
