"""Collecting: devices asked for what they know, into a folder of devices as ``formats`` reads it.

An *inventory* (``inventory.py``) names the devices and how each is asked: captures over SSH (``ssh.py``), open models
over NETCONF and RESTCONF (``netconf.py``, ``restconf.py``). A *round* (``rounds.py``) asks all of them at once, each
within its time. What a device says is read before it takes the place of what was known; a device that cannot be had,
or says what cannot be read, keeps its last files, and ``collected.json`` says since when. ``stand_ins.py`` plays
devices, for trying and for tests.

Nothing is ever written to a device. Host keys and certificates are checked; no secret stands in a file: keys are the
user's own or an agent's, passwords and tokens come from the environment.
"""
