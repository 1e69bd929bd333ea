from django.urls import path, re_path

from .api import api
from .shelf.listening import pcm
from .web import page

urlpatterns = [
    path("api/audio/<str:address>/pcm", pcm),
    path("api/", api.urls),
    re_path(r"^(?!api/|assets/).*$", page),
]
