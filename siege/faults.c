/* Makes writes, syncs and renames of files below one folder fail: preloaded into a process and those that it starts.
 *
 * The counts stand in a file that is mapped and shared by all of them (SIEGE_STATE); siege/faults.py arms it.
 */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/types.h>
#include <sys/uio.h>
#include <unistd.h>

struct state {
    long armed;   /* whether anything is counted */
    long count;   /* calls since it was armed */
    long first;   /* the first call that fails, from 1 */
    long many;    /* how many fail from there on */
    long error;   /* with this errno */
    long failed;  /* how many did */
    char folder[512];
};

static struct state *state;

__attribute__((constructor)) static void start(void) {
    const char *path = getenv("SIEGE_STATE");
    int handle = path ? open(path, O_RDWR | O_CLOEXEC) : -1;
    if (handle < 0) return;
    void *place = mmap(NULL, sizeof(struct state), PROT_READ | PROT_WRITE, MAP_SHARED, handle, 0);
    close(handle);
    if (place != MAP_FAILED) state = place;
}

static int fails(void) {
    long number = __atomic_add_fetch(&state->count, 1, __ATOMIC_SEQ_CST);
    if (number < state->first || number >= state->first + state->many) return 0;
    __atomic_add_fetch(&state->failed, 1, __ATOMIC_SEQ_CST);
    errno = (int)state->error;
    return 1;
}

static int path_fails(const char *path) {
    return state && state->armed && path && !strncmp(path, state->folder, strlen(state->folder)) && fails();
}

static int handle_fails(int handle) {
    char link[64], path[1024];
    if (!state || !state->armed) return 0;
    snprintf(link, sizeof link, "/proc/self/fd/%d", handle);
    ssize_t length = readlink(link, path, sizeof path - 1);
    if (length <= 0) return 0;
    path[length] = 0;
    return path_fails(path);
}

#define REAL(name) ((__typeof__(&name))dlsym(RTLD_NEXT, #name))

ssize_t write(int handle, const void *data, size_t size) { return handle_fails(handle) ? -1 : REAL(write)(handle, data, size); }
ssize_t writev(int handle, const struct iovec *parts, int count) { return handle_fails(handle) ? -1 : REAL(writev)(handle, parts, count); }
ssize_t pwrite(int handle, const void *data, size_t size, off_t at) { return handle_fails(handle) ? -1 : REAL(pwrite)(handle, data, size, at); }
ssize_t pwrite64(int handle, const void *data, size_t size, off64_t at) { return handle_fails(handle) ? -1 : REAL(pwrite64)(handle, data, size, at); }
int fsync(int handle) { return handle_fails(handle) ? -1 : REAL(fsync)(handle); }
int fdatasync(int handle) { return handle_fails(handle) ? -1 : REAL(fdatasync)(handle); }
int ftruncate(int handle, off_t size) { return handle_fails(handle) ? -1 : REAL(ftruncate)(handle, size); }
int ftruncate64(int handle, off64_t size) { return handle_fails(handle) ? -1 : REAL(ftruncate64)(handle, size); }
int rename(const char *old, const char *new) { return path_fails(new) ? -1 : REAL(rename)(old, new); }
