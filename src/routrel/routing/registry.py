"""The routing protocols, in the order of a table's sources: the one place that lists them."""

from functools import partial

from routrel.routing.bgp.sessions import BgpDatabase
from routrel.routing.bgp.solution import BgpSolution
from routrel.routing.eigrp.database import EigrpDatabase
from routrel.routing.eigrp.solution import EigrpSolution
from routrel.routing.isis.database import IsisDatabase
from routrel.routing.isis.solution import IsisSolution
from routrel.routing.ospf.database import OspfDatabase
from routrel.routing.ospf.solution import OspfSolution
from routrel.routing.protocol import RoutingProtocol
from routrel.routing.rip.database import RipDatabase
from routrel.routing.rip.solution import RipSolution

PROTOCOLS = (
    RoutingProtocol(partial(OspfDatabase, version=2), OspfSolution),
    RoutingProtocol(partial(OspfDatabase, version=3), OspfSolution),
    RoutingProtocol(IsisDatabase, IsisSolution),
    RoutingProtocol(RipDatabase, RipSolution),
    RoutingProtocol(EigrpDatabase, EigrpSolution),
    RoutingProtocol(BgpDatabase, BgpSolution),
)
