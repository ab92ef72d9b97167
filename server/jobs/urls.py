from django.urls import path

from jobs.views import ExpectationHistoryView, JobCancelView, JobListView, JobView

NETWORK = "networks/<uuid:network_id>"

urlpatterns = [
    path(f"{NETWORK}/jobs", JobListView.as_view(), name="jobs"),
    path(f"{NETWORK}/jobs/<uuid:job>", JobView.as_view(), name="job"),
    path(f"{NETWORK}/jobs/<uuid:job>/cancel", JobCancelView.as_view(), name="job-cancel"),
    path(f"{NETWORK}/expectation-history", ExpectationHistoryView.as_view(), name="expectation-history"),
]
