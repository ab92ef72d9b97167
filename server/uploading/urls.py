from django.urls import path

from uploading.views import UploadListView, UploadView

urlpatterns = [
    path("uploads", UploadListView.as_view(), name="uploads"),
    path("uploads/<uuid:upload>", UploadView.as_view(), name="upload"),
]
