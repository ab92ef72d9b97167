"""Sign-in: a session for the browser, a token for scripts."""

from django.contrib.auth import authenticate, login, logout
from django.utils.decorators import method_decorator
from django.views.decorators.csrf import csrf_protect
from drf_spectacular.utils import extend_schema
from rest_framework import status
from rest_framework.authtoken.models import Token
from rest_framework.exceptions import AuthenticationFailed
from rest_framework.permissions import AllowAny
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.throttling import ScopedRateThrottle
from rest_framework.views import APIView

from accounts.serializers import CredentialsSerializer, TokenSerializer, UserSerializer


@method_decorator(csrf_protect, name="dispatch")
class SessionView(APIView):
    """The session of the browser: who is signed in (nobody: null), signing in and out."""

    throttle_scope = "sign-in"

    def get_permissions(self):  # type: ignore[no-untyped-def]
        return super().get_permissions() if self.request.method == "DELETE" else [AllowAny()]

    def get_throttles(self):  # type: ignore[no-untyped-def]
        return [ScopedRateThrottle()] if self.request.method == "POST" else []

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


class TokenView(APIView):
    """The token by which scripts act for the signed-in user: made, made anew, or taken back."""

    @extend_schema(request=None, responses={201: TokenSerializer})
    def post(self, request: Request) -> Response:
        Token.objects.filter(user=request.user).delete()
        token = Token.objects.create(user=request.user)
        return Response({"token": token.key}, status=status.HTTP_201_CREATED)

    @extend_schema(responses={204: None})
    def delete(self, request: Request) -> Response:
        Token.objects.filter(user=request.user).delete()
        return Response(status=status.HTTP_204_NO_CONTENT)
