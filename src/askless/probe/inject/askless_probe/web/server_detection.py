"""Programs that listen: what they ask outside of all requests may be of many requests that no one
distinguishes.
"""

from .. import recorder
from ..wrapper_metadata import like


def install(module):
    """Note that a socket listens."""
    plain = module.socket.listen

    @like(plain, module.socket.__module__)
    def listen(self, *args, **kwargs):
        recorder.serves = True
        return plain(self, *args, **kwargs)

    module.socket.listen = listen
