from django.apps import AppConfig


class UploadingConfig(AppConfig):
    name = "uploading"
