"""Large uploads, read by workers: ``records.py`` begins and describes them, ``tasks.py`` is what the queue calls,
``reading.py`` what a worker does of one. What is stored, and how, is ``networks/uploads.py``'s."""
