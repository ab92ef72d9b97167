"""Reading, solving and answering, in processes of their own with limits on time and memory.

A web process only waits. It knows revisions by the digest of their text and hands a question to one of a few
*work processes* (``pool``), each of which keeps the networks it solved last (``answering``) and asks for a text
it does not have (``process``). A process that goes over its time is ended and another started in its place; one
that runs out of memory ends itself. One process is left to quick questions on networks that are known to be
solved quickly, so that whatever an upload costs, other people are answered.
Several web processes ask one pool, which is then in a process of its own (``pool_process``, ``remote_pool``).

Nothing here knows Django but ``service``, which the views call.
"""
