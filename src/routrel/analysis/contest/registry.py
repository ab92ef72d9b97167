"""The parts of explanations, by the name of the protocol: the one place that lists them."""

from routrel.analysis.contest.bgp.candidates import BgpContest
from routrel.analysis.contest.eigrp.candidates import EigrpContest
from routrel.analysis.contest.isis.candidates import IsisContest
from routrel.analysis.contest.ospf.candidates import OspfContest
from routrel.analysis.contest.protocol import ProtocolContest
from routrel.analysis.contest.rip.candidates import RipContest

CONTESTS: dict[str, type[ProtocolContest]] = {
    "ospf": OspfContest,
    "isis": IsisContest,
    "rip": RipContest,
    "eigrp": EigrpContest,
    "bgp": BgpContest,
}
