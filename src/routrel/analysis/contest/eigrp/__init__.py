"""EIGRP for one prefix in plain code, and its part of explanations."""

from routrel.analysis.contest.eigrp.candidates import EigrpContest

CONTEST = EigrpContest
