"""How gunicorn serves; what it is bound to is said when it is started."""

import os

from hollow_kettle import logs

worker_class = "gthread"
workers, threads = 2, 8
# Loaded once: one that dies is there again at once, and they share what they hold.
preload_app = True
graceful_timeout = 8
# Its heartbeat is not held up by a disk where there is memory to write it to.
worker_tmp_dir = "/dev/shm" if os.access("/dev/shm", os.W_OK) else None  # noqa: S108
control_socket_disable = True
accesslog = None
loglevel = "warning"
logconfig_dict = logs.config()
