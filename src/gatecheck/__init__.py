"""Gate Check: triage for machines that will not start."""

import os

# the engine's matrices are small: starting a thread per core costs more than it saves. Must stand before numpy loads.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

__version__ = "0.1.0"
