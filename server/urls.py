from django.urls import path, re_path

from .api import api
from .web import page

urlpatterns = [
    path("api/", api.urls),
    re_path(r"^(?!api/|assets/).*$", page),
]
