"""OSPF for one prefix in plain code, and its part of explanations."""

from routrel.analysis.contest.ospf.candidates import OspfContest

CONTEST = OspfContest
