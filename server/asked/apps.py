from django.apps import AppConfig


class AskedConfig(AppConfig):
    name = "asked"
