"""One browser's worth of calls to a running application, without a browser."""

from __future__ import annotations

import json
import urllib.request
from http.cookiejar import CookieJar
from typing import Any


class Caller:
    def __init__(self, address: str) -> None:
        self.address, self.jar = address, CookieJar()
        self.web = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(self.jar))

    def sign_in(self, name: str) -> None:
        self.call("GET", "/api/me")
        self.call("POST", "/api/sign-in", {"name": name, "password": "plaster-and-light"})

    def call(self, way: str, path: str, body: Any = None, *, kind: str = "application/json") -> Any:
        """What was answered. Raises HTTPError for a refusal."""
        data = body if isinstance(body, bytes) or body is None else json.dumps(body).encode()
        token = next((c.value for c in self.jar if c.name == "csrftoken"), "") or ""
        headers = {"Content-Type": kind, "X-CSRFToken": token}
        request = urllib.request.Request(self.address + path, data, headers, method=way)
        with self.web.open(request, timeout=120) as answer:
            return json.loads(answer.read())

    def drop(self, files: dict[str, bytes]) -> str:
        """The number of the case that files by name become."""
        body = b"".join(
            f'--x\r\nContent-Disposition: form-data; name="files"; filename="{name}"\r\n\r\n'.encode() + data + b"\r\n"
            for name, data in files.items()
        )
        return self.call("POST", "/api/cases/drop", body + b"--x--\r\n", kind="multipart/form-data; boundary=x")["number"]
