"""How gunicorn serves; what it is bound to is said when it is started."""

from hollow_kettle import logs

worker_class = "gthread"
workers, threads = 2, 8
graceful_timeout = 8
worker_tmp_dir = "/dev/shm"  # noqa: S108 - a heartbeat that no disk can hold up
control_socket_disable = True
accesslog = None
loglevel = "warning"
logconfig_dict = logs.config()
