"""What the queue calls for collecting; only workers that have inventories listen to it (``settings.COLLECT``)."""

from procrastinate.contrib.django import app
from procrastinate.exceptions import AlreadyEnqueued

QUEUE = "collecting"


@app.periodic(cron="* * * * *")
@app.task(name="collecting.due", queue=QUEUE, queueing_lock="collecting due")
def due(timestamp: int) -> None:
    """Begin the rounds that are due."""
    from collecting import rounds

    for inventory in rounds.due():
        ask(inventory)


def ask(inventory: str) -> None:
    """Queue a round of an inventory, unless one waits already."""
    lock = f"collect {inventory}"
    try:
        take.configure(queueing_lock=lock, lock=lock).defer(inventory=inventory)
    except AlreadyEnqueued:
        return


@app.task(name="collecting.take", queue=QUEUE)
def take(inventory: str) -> None:
    """One round of an inventory."""
    from collecting import rounds

    rounds.take(inventory)
