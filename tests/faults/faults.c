/* Calls of the system that change files under one folder: counted, and made to fail, or to end
 * the process, at the one that is asked for. Loaded before the C library. */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <signal.h>
#include <stdarg.h>
#include <stdio.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <sys/types.h>
#include <sys/uio.h>
#include <unistd.h>

enum { COUNT, FAIL, FULL, KILL, INTERRUPT };

struct plan {
    char under[PATH_MAX];
    int at, action;
    int count; /* calls so far */
};
static struct plan *plan;

__attribute__((constructor)) static void begin(void) {
    plan = mmap(NULL, sizeof *plan, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
}

void faults_set(const char *under, int at, int action) {
    snprintf(plan->under, sizeof plan->under, "%s", under);
    plan->at = at;
    plan->action = action;
    __atomic_store_n(&plan->count, 0, __ATOMIC_SEQ_CST);
}

int faults_count(void) { return __atomic_load_n(&plan->count, __ATOMIC_SEQ_CST); }

/* Whether the call is to fail; errno is set then. needs_room: it takes place on the disk. */
static int strikes(const char *path, int needs_room) {
    char here[PATH_MAX];
    if (!plan || !plan->under[0] || !path) return 0;
    if (path[0] != '/') {
        if (!getcwd(here, sizeof here)) return 0;
        path = here;
    }
    if (strncmp(path, plan->under, strlen(plan->under))) return 0;
    int number = __atomic_add_fetch(&plan->count, 1, __ATOMIC_SEQ_CST);
    if (plan->action == FULL && needs_room && number >= plan->at) { errno = ENOSPC; return 1; }
    if (number != plan->at) return 0;
    if (plan->action == KILL) { kill(getpid(), SIGKILL); pause(); }
    if (plan->action == INTERRUPT) { kill(getpid(), SIGINT); return 0; }
    if (plan->action == FAIL) { errno = EIO; return 1; }
    return 0;
}

static int strikes_open(int file, int needs_room) {
    char link[64], path[PATH_MAX];
    if (!plan || !plan->under[0]) return 0;
    snprintf(link, sizeof link, "/proc/self/fd/%d", file);
    ssize_t size = readlink(link, path, sizeof path - 1);
    if (size <= 0) return 0;
    path[size] = 0;
    return path[0] == '/' && strikes(path, needs_room);
}

#define NEXT(name) __typeof__(&name) next = (__typeof__(&name))dlsym(RTLD_NEXT, #name)

ssize_t write(int file, const void *data, size_t size) {
    NEXT(write);
    return strikes_open(file, 1) ? -1 : next(file, data, size);
}
ssize_t writev(int file, const struct iovec *data, int count) {
    NEXT(writev);
    return strikes_open(file, 1) ? -1 : next(file, data, count);
}
ssize_t pwrite(int file, const void *data, size_t size, off_t at) {
    NEXT(pwrite);
    return strikes_open(file, 1) ? -1 : next(file, data, size, at);
}
ssize_t pwrite64(int file, const void *data, size_t size, off64_t at) {
    NEXT(pwrite64);
    return strikes_open(file, 1) ? -1 : next(file, data, size, at);
}
int fsync(int file) { NEXT(fsync); return strikes_open(file, 0) ? -1 : next(file); }
int fdatasync(int file) { NEXT(fdatasync); return strikes_open(file, 0) ? -1 : next(file); }
int ftruncate(int file, off_t size) {
    NEXT(ftruncate);
    return strikes_open(file, 0) ? -1 : next(file, size);
}
int rename(const char *from, const char *to) {
    NEXT(rename);
    return strikes(to, 0) ? -1 : next(from, to);
}
int renameat2(int a, const char *from, int b, const char *to, unsigned flags) {
    NEXT(renameat2);
    return strikes(to, 0) ? -1 : next(a, from, b, to, flags);
}
int link(const char *from, const char *to) {
    NEXT(link);
    return strikes(to, 1) ? -1 : next(from, to);
}
int linkat(int a, const char *from, int b, const char *to, int flags) {
    NEXT(linkat);
    return strikes(to, 1) ? -1 : next(a, from, b, to, flags);
}
int unlink(const char *path) { NEXT(unlink); return strikes(path, 0) ? -1 : next(path); }
int rmdir(const char *path) { NEXT(rmdir); return strikes(path, 0) ? -1 : next(path); }
int mkdir(const char *path, mode_t mode) {
    NEXT(mkdir);
    return strikes(path, 1) ? -1 : next(path, mode);
}

#define OPENING(name)                                                        \
    int name(const char *path, int flags, ...) {                             \
        NEXT(name);                                                          \
        va_list more;                                                        \
        va_start(more, flags);                                               \
        mode_t mode = (flags & O_CREAT) ? va_arg(more, mode_t) : 0;          \
        va_end(more);                                                        \
        if ((flags & O_CREAT) && strikes(path, 1)) return -1;                \
        return next(path, flags, mode);                                      \
    }
OPENING(open)
OPENING(open64)
