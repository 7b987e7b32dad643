"""Files and programs of a POSIX machine: the only place where descriptors and `dir_fd` are used."""
