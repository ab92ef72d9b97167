"""Work that takes longer than somebody waits at a question: queued in PostgreSQL, done by any number of workers.

A *job* holds a revision's expectations, with or without a trial's changes, under failures. It is planned once and cut
into *parts* (``models``). ``tasks`` is what the queue calls: it looks at one part after the other in a work process of
the worker's own (``running``), so that limits of time and memory hold here too. What a part found is stored once,
whoever looked at it and however often; the last one puts everything together. A job that holds all traffic with a trial
is one piece of work, said step by step. ``records`` is what the views call; large uploads are ``uploading``'s.

The queue is procrastinate's. A worker that dies leaves its part to the others: each looks every few seconds for what
is being done by nobody who gives a sign of life.
"""
