"""BGP for one prefix in plain code, and its part of explanations."""

from routrel.analysis.contest.bgp.candidates import BgpContest

CONTEST = BgpContest
