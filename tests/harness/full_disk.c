/* Loaded before PostgreSQL: while the file that FULL_DISK names is there, its disk is full, but for its log. */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/uio.h>
#include <unistd.h>

static int postgres;

/* Once, before PostgreSQL writes its titles over its own name. */
__attribute__((constructor)) static void look(void)
{
    postgres = strcmp(program_invocation_short_name, "postgres") == 0;
}

static int full(int fd)
{
    const char *flag = getenv("FULL_DISK");
    struct stat file;
    int before = errno;
    int found = postgres && fd != STDERR_FILENO && flag != NULL && access(flag, F_OK) == 0 && fstat(fd, &file) == 0
        && S_ISREG(file.st_mode);
    errno = found ? ENOSPC : before;
    return found;
}

/* A call that writes, as it is while there is room; what it answers when there is none. */
#define CALL(kind, name, none, takes, gives)                                       \
    kind name takes                                                                \
    {                                                                              \
        return full(fd) ? none : ((typeof(&name))dlsym(RTLD_NEXT, #name)) gives;   \
    }

CALL(ssize_t, write, -1, (int fd, const void *data, size_t size), (fd, data, size))
CALL(ssize_t, pwrite, -1, (int fd, const void *data, size_t size, off_t at), (fd, data, size, at))
CALL(ssize_t, pwrite64, -1, (int fd, const void *data, size_t size, off64_t at), (fd, data, size, at))
CALL(ssize_t, pwritev, -1, (int fd, const struct iovec *parts, int count, off_t at), (fd, parts, count, at))
CALL(ssize_t, pwritev64, -1, (int fd, const struct iovec *parts, int count, off64_t at), (fd, parts, count, at))
CALL(int, posix_fallocate, ENOSPC, (int fd, off_t at, off_t size), (fd, at, size))
CALL(int, posix_fallocate64, ENOSPC, (int fd, off64_t at, off64_t size), (fd, at, size))
