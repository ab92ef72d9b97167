"""Shapes of the accounts' part of the API."""

from typing import Any

from rest_framework import serializers

from accounts.tokens import DEFAULT_DAYS, MOST_DAYS


class CredentialsSerializer(serializers.Serializer[Any]):
    username = serializers.CharField(max_length=150)
    password = serializers.CharField(max_length=200, trim_whitespace=False)


class UserSerializer(serializers.Serializer[Any]):
    username = serializers.CharField(allow_null=True)


class TokenSerializer(serializers.Serializer[Any]):
    token = serializers.CharField()


class NewTokenSerializer(serializers.Serializer[Any]):
    """``days`` is how long it holds; null: until it is taken back or the password changes."""

    name = serializers.CharField(max_length=100)
    days = serializers.IntegerField(min_value=1, max_value=MOST_DAYS, allow_null=True, default=DEFAULT_DAYS)


class TokenInfoSerializer(serializers.Serializer[Any]):
    id = serializers.IntegerField()
    name = serializers.CharField()
    created_at = serializers.DateTimeField()
    expires_at = serializers.DateTimeField(allow_null=True)
    last_used_at = serializers.DateTimeField(allow_null=True)


class MadeTokenSerializer(TokenInfoSerializer):
    """The one time that a token's text is shown."""

    token = serializers.CharField()
