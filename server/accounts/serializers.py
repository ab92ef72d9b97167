"""Shapes of the accounts' part of the API."""

from typing import Any

from rest_framework import serializers


class CredentialsSerializer(serializers.Serializer[Any]):
    username = serializers.CharField(max_length=150)
    password = serializers.CharField(max_length=200, trim_whitespace=False)


class UserSerializer(serializers.Serializer[Any]):
    username = serializers.CharField(allow_null=True)


class TokenSerializer(serializers.Serializer[Any]):
    token = serializers.CharField()
