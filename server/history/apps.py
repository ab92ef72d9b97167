from django.apps import AppConfig


class HistoryConfig(AppConfig):
    name = "history"
