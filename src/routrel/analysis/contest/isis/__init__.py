"""IS-IS for one prefix in plain code, and its part of explanations."""

from routrel.analysis.contest.isis.candidates import IsisContest

CONTEST = IsisContest
