"""Files of samples: what was measured of interfaces, links and devices (docs/events.md).

``table.py`` reads CSV, a time and a thing in a line, ``open_metrics.py`` the text of OpenMetrics 1.0; ``gathering.py``
is what both put values into. The names of columns and of metrics are the same: ``READINGS`` of ``model/samples.py``.
"""
