"""A network over time: a revision, and what happened before and after it.

switches     what can be down: interfaces, links, devices, adjacencies, sessions; a network with some of these off
states       the state at a moment: what is down then, and which changes are in force; its network, solved
flow_states  what becomes of a flow in one state: verdicts, ways, the routes it goes by
outcomes     the same of many states, solved once where they differ in nothing that it rests on
route_states the route of one table for a prefix in one state; route_strip: over a window, with what concerns it
strip        flows over a window of time: segments of one state each, what began them, where they fell back
outages      how often and how long things were down: of a window, and what is down now
measured     samples of all files as gauges of things, what of them is usual and which hours are not; unusual: in words
health       how all that flows went over did; gauge_points: one measure over a window, for a chart
seen         what differs between two looks at a network, as events
then         a moment told: what is otherwise than the revision says
story        a flow over a window in words, for a ticket

A state is the revision with the changes of events made in it, as a trial's are; two moments at which the same is down
and the same changes are in force are one state, and solved once.
"""
