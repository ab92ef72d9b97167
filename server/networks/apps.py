from django.apps import AppConfig


class NetworksConfig(AppConfig):
    name = "networks"
