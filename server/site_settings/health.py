"""Whether the server can do its work: for whoever watches it."""

import logging

from django.db import DatabaseError, connection
from django.db.migrations.executor import MigrationExecutor
from drf_spectacular.utils import extend_schema
from rest_framework import serializers, status
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from work.service import pool

log = logging.getLogger("routrel.health")


class HealthSerializer(serializers.Serializer[dict[str, bool]]):
    database = serializers.BooleanField()
    migrations = serializers.BooleanField()
    worker = serializers.BooleanField()


class HealthView(APIView):
    """The database answers, its tables are those of this version, a work process answers: 200, or 503."""

    authentication_classes = ()
    permission_classes = ()

    @extend_schema(responses={200: HealthSerializer, 503: HealthSerializer}, auth=[])
    def get(self, request: Request) -> Response:
        found = {"database": False, "migrations": False, "worker": pool.is_answering()}
        try:
            executor = MigrationExecutor(connection)
            found["database"] = True
            found["migrations"] = not executor.migration_plan(executor.loader.graph.leaf_nodes())
        except DatabaseError as error:
            log.warning("database: %s", error)
        healthy = all(found.values())
        return Response(found, status=status.HTTP_200_OK if healthy else status.HTTP_503_SERVICE_UNAVAILABLE)
