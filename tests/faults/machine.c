/* Loaded before the service and its PostgreSQL, to be the machine that hurts them:
 *
 * - while the file that FULL_DATABASE names is there, PostgreSQL's disk is full, but for its log;
 * - while the file that FULL_IMAGES names is there, the disk of the service's images is full;
 * - the file that AHEAD names holds by how many seconds the machine's clock was set forwards.
 */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/time.h>
#include <sys/uio.h>
#include <time.h>
#include <unistd.h>

static int postgres;

/* Once, before PostgreSQL writes its titles over its own name. */
__attribute__((constructor)) static void look(void)
{
    postgres = strcmp(program_invocation_short_name, "postgres") == 0;
}

static int is_image(int fd)
{
    char link[64], path[1024];
    snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
    ssize_t size = readlink(link, path, sizeof path - 1);
    if (size < 0)
        return 0;
    path[size] = 0;
    return strstr(path, "/images/") != NULL;
}

static int full(int fd)
{
    const char *flag = getenv(postgres ? "FULL_DATABASE" : "FULL_IMAGES");
    struct stat file;
    int before = errno;
    int found = fd != STDERR_FILENO && flag != NULL && *flag && access(flag, F_OK) == 0 && fstat(fd, &file) == 0
        && S_ISREG(file.st_mode) && (postgres || is_image(fd));
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

/* By how much the clock was set, read a hundred times a second at most. */
static long ahead(void)
{
    static __thread long read_at = -1, seconds = 0;
    const char *name = getenv("AHEAD");
    struct timespec now;
    if (name == NULL || *name == 0)
        return 0;
    syscall(SYS_clock_gettime, CLOCK_MONOTONIC, &now);
    long tick = now.tv_sec * 100 + now.tv_nsec / 10000000;
    if (tick == read_at)
        return seconds;
    read_at = tick;
    int before = errno, file = open(name, O_RDONLY | O_CLOEXEC);
    char text[32] = "0";
    if (file >= 0) {
        ssize_t size = read(file, text, sizeof text - 1);
        text[size > 0 ? size : 0] = 0;
        close(file);
    }
    errno = before;
    return seconds = atol(text);
}

int clock_gettime(clockid_t which, struct timespec *at)
{
    int done = syscall(SYS_clock_gettime, which, at);
    if (done == 0 && which == CLOCK_REALTIME)
        at->tv_sec += ahead();
    return done;
}

int gettimeofday(struct timeval *at, void *zone)
{
    struct timespec now;
    (void)zone;
    clock_gettime(CLOCK_REALTIME, &now);
    at->tv_sec = now.tv_sec;
    at->tv_usec = now.tv_nsec / 1000;
    return 0;
}

time_t time(time_t *at)
{
    struct timespec now;
    clock_gettime(CLOCK_REALTIME, &now);
    if (at)
        *at = now.tv_sec;
    return now.tv_sec;
}
