"""RIP for one prefix in plain code, and its part of explanations."""

from routrel.analysis.contest.rip.candidates import RipContest

CONTEST = RipContest
