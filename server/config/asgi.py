"""The application as uvicorn serves it."""

import os
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent.parent
sys.path[:0] = [p for p in (str(ROOT / "server"), str(ROOT / "core"), str(ROOT)) if p not in sys.path]
os.environ.setdefault("DJANGO_SETTINGS_MODULE", "config.settings")

from bitecore import forkserver  # noqa: E402

# The processes that read what comes in are forked from it; it loads while Django does.
forkserver.start()

from django.core.asgi import get_asgi_application  # noqa: E402

inside = get_asgi_application()

from config.door import Door  # noqa: E402

application = Door(inside)  # type: ignore[arg-type]  # the same call, typed more loosely there
