"""What Aiguille takes, in ratios; see docs/performance.md."""

import os

# Installed programs keep their bytecode; without it, compiling would be half of what a short command is measured to take.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
