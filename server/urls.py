from django.urls import path, re_path

from .api import api
from .shelf.listening import pcm
from .web import page

handler400 = "server.web.not_understood"
handler404 = "server.web.not_there"
handler500 = "server.web.not_done"

urlpatterns = [
    path("api/audio/<str:address>/pcm", pcm),
    path("api/", api.urls),
    re_path(r"^(?!api/|assets/).*$", page),
]
