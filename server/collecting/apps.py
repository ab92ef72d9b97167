from django.apps import AppConfig


class CollectingConfig(AppConfig):
    name = "collecting"
