"""Print the API's description, for the generated client."""

from __future__ import annotations

import json
import os


def main() -> None:
    import django

    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "config.settings")
    django.setup()
    from config.api import api

    print(json.dumps(api.get_openapi_schema(), indent=1, sort_keys=True, default=str))


if __name__ == "__main__":
    main()
