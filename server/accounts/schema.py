"""How scripts sign their requests, for the API's schema."""

from typing import Any

from drf_spectacular.extensions import OpenApiAuthenticationExtension


class TokenScheme(OpenApiAuthenticationExtension):  # type: ignore[no-untyped-call]
    target_class = "accounts.tokens.TokenAuthentication"
    name = "tokenAuth"

    def get_security_definition(self, auto_schema: Any) -> dict[str, str]:
        return {
            "type": "apiKey",
            "in": "header",
            "name": "Authorization",
            "description": 'Token-based authentication with required prefix "Token"',
        }
