"""The shapes of answers, each stated once.

The core returns them; the command line prints them as JSON or as lines, a work process sends them as JSON,
and the API's schema and the web client's types are made from them (docs/api.md, docs/command-line.md). They
hold words and names, no numbers of the solver's. A key that is a word of Python has another name here and
its own in JSON: ``source`` is "from", ``reply`` is "return", ``number`` of a border is "as".

``routes``: next hops and rows of tables. ``walks``: strands, stops, checks, causes. ``contests``: candidates,
rounds, tipping points, trails. ``destinations``: all devices' routes for one destination. ``policies``: what a
policy does. ``model``: the map, words of a question, problems, drift.
"""
