from django.urls import path

from trials.views import TrialListView, TrialRevisionView, TrialView

TRIALS = "networks/<uuid:network_id>/trials"

urlpatterns = [
    path(TRIALS, TrialListView.as_view(), name="trials"),
    path(f"{TRIALS}/<int:trial>", TrialView.as_view(), name="trial"),
    path(f"{TRIALS}/<int:trial>/revision", TrialRevisionView.as_view(), name="trial-revision"),
]
