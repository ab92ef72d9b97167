"""Sign-in: a session for the browser, a token for scripts."""

from django.contrib.auth import authenticate, login, logout
from django.shortcuts import get_object_or_404
from django.utils.decorators import method_decorator
from django.views.decorators.csrf import csrf_protect
from drf_spectacular.utils import extend_schema
from rest_framework import status
from rest_framework.exceptions import AuthenticationFailed, ValidationError
from rest_framework.permissions import AllowAny
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from accounts.models import ApiToken
from accounts.serializers import (
    CredentialsSerializer,
    MadeTokenSerializer,
    NewTokenSerializer,
    TokenInfoSerializer,
    TokenSerializer,
    UserSerializer,
)
from accounts.throttles import ByAddress, ByName
from accounts.tokens import MOST_TOKENS, make_token

UNNAMED = "unnamed"


@method_decorator(csrf_protect, name="dispatch")
class SessionView(APIView):
    """The session of the browser: who is signed in (nobody: null), signing in and out."""

    def get_permissions(self):  # type: ignore[no-untyped-def]
        return super().get_permissions() if self.request.method == "DELETE" else [AllowAny()]

    def get_throttles(self):  # type: ignore[no-untyped-def]
        return [ByAddress(), ByName()] if self.request.method == "POST" else []

    @extend_schema(responses=UserSerializer)
    def get(self, request: Request) -> Response:
        return Response({"username": request.user.get_username() or None})

    @extend_schema(request=CredentialsSerializer, responses=UserSerializer)
    def post(self, request: Request) -> Response:
        serializer = CredentialsSerializer(data=request.data)
        serializer.is_valid(raise_exception=True)
        user = authenticate(request, **serializer.validated_data)
        if user is None:
            raise AuthenticationFailed("This name and password do not belong together.")
        login(request, user)
        return Response({"username": user.get_username()})

    @extend_schema(responses={204: None})
    def delete(self, request: Request) -> Response:
        logout(request)
        return Response(status=status.HTTP_204_NO_CONTENT)


class TokenListView(APIView):
    """The tokens by which scripts act for the signed-in user: listed, and made by name."""

    @extend_schema(responses=TokenInfoSerializer(many=True))
    def get(self, request: Request) -> Response:
        return Response(TokenInfoSerializer(ApiToken.objects.filter(user=request.user), many=True).data)

    @extend_schema(request=NewTokenSerializer, responses={201: MadeTokenSerializer})
    def post(self, request: Request) -> Response:
        serializer = NewTokenSerializer(data=request.data)
        serializer.is_valid(raise_exception=True)
        if ApiToken.objects.filter(user=request.user).count() >= MOST_TOKENS:
            raise ValidationError(f"You have {MOST_TOKENS} tokens, the most there may be: take one back first.")
        token, text = make_token(request.user, **serializer.validated_data)
        described = {**TokenInfoSerializer(token).data, "token": text}
        return Response(described, status=status.HTTP_201_CREATED)


class TokenInfoView(APIView):
    """One token of the signed-in user, by number."""

    @extend_schema(responses={204: None})
    def delete(self, request: Request, token_id: int) -> Response:
        get_object_or_404(ApiToken, user=request.user, pk=token_id).delete()
        return Response(status=status.HTTP_204_NO_CONTENT)


class TokenView(APIView):
    """The one unnamed token of a user: made anew, or taken back. The list of tokens does more."""

    @extend_schema(request=None, responses={201: TokenSerializer})
    def post(self, request: Request) -> Response:
        ApiToken.objects.filter(user=request.user, name=UNNAMED).delete()
        _, text = make_token(request.user, UNNAMED, None)
        return Response({"token": text}, status=status.HTTP_201_CREATED)

    @extend_schema(responses={204: None})
    def delete(self, request: Request) -> Response:
        ApiToken.objects.filter(user=request.user, name=UNNAMED).delete()
        return Response(status=status.HTTP_204_NO_CONTENT)
