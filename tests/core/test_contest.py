"""The contest: its winner is the table's, and each round says who lost and by how much."""

from hypothesis import HealthCheck, given, settings

from routrel.analysis.contest.rounds import Explainer
from routrel.routing.solve import solve
from tests.core.mixed_networks import documents, read


def disagreements(solved) -> list[tuple]:
    """Every (instance, prefix) at which the contest's winner is not what stands in the table."""
    explainer = Explainer(solved)
    found = []
    for instance in solved.topology.instances:
        table = solved.table(instance.index)
        for number, prefix in enumerate(solved.prefixes.prefixes):
            route = table.get(number)
            contest = explainer.contest(instance.index, prefix)
            winner = contest.candidates[contest.winners[0]] if contest.winners else None
            stands = (
                None
                if route is None
                else (route.protocol, route.preference, route.metric, route.action, route.next_hops)
            )
            explained = winner and (
                winner.protocol,
                winner.preference,
                winner.metric,
                winner.action,
                contest.next_hops,
            )
            if stands != explained:
                found.append((solved.topology.instance_name(instance.index), str(prefix), stands, explained))
    return found


@given(documents())
@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_the_explained_winner_is_the_computed_winner(document):
    assert disagreements(solve(read(document))) == []
