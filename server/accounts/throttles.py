"""How often a sign-in may be tried: by the client's address, and by the name that is tried.

The address is the connection's own; what a request says of itself is believed of as many proxies as the
settings name (ROUTREL_PROXIES).
"""

import hashlib

from rest_framework.request import Request
from rest_framework.throttling import SimpleRateThrottle
from rest_framework.views import APIView


class ByAddress(SimpleRateThrottle):
    scope = "sign-in by address"

    def get_cache_key(self, request: Request, view: APIView) -> str:
        return f"sign-in-address-{self.get_ident(request)}"


class ByName(SimpleRateThrottle):
    scope = "sign-in by name"

    def get_cache_key(self, request: Request, view: APIView) -> str | None:
        name = request.data.get("username") if isinstance(request.data, dict) else None
        if not isinstance(name, str) or not name:
            return None
        return f"sign-in-name-{hashlib.sha256(name.strip().lower().encode()).hexdigest()}"
