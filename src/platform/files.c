#define _GNU_SOURCE
#include "platform/platform.h"

#include <errno.h>
#include <fcntl.h>
#include <linux/fs.h>
#include <sched.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <time.h>
#include <unistd.h>

static int file_open(const struct mos_host *h, const char *path, enum mos_open_mode mode,
                     int *file) {
    (void)h;
    static const int flags[] = {[MOS_OPEN_READ] = O_RDONLY,
                                [MOS_OPEN_NEW] = O_RDWR | O_CREAT | O_EXCL,
                                [MOS_OPEN_MODIFY] = O_RDWR};
    /* without O_NONBLOCK a pipe without a writer would hold us up */
    int fd = open(path, flags[mode] | O_CLOEXEC | (mode == MOS_OPEN_READ ? O_NONBLOCK : 0), 0666);
    if (fd < 0)
        return errno;
    struct stat st;
    int e = fstat(fd, &st) ? errno : 0;
    if (!e && mode == MOS_OPEN_READ && !S_ISREG(st.st_mode))
        e = S_ISDIR(st.st_mode) ? EISDIR : MOS_NO_FILE;
    if (e) {
        close(fd);
        return e;
    }
    *file = fd;
    return 0;
}

static int file_temporary(const struct mos_host *h, int *file) {
    (void)h;
    const char *folder = getenv("TMPDIR");
    char path[4096];
    folder = folder && *folder ? folder : "/tmp";
    int fd = open(folder, O_TMPFILE | O_RDWR | O_CLOEXEC, 0600);
    if (fd < 0) { /* not every file system has files without a name */
        snprintf(path, sizeof path, "%s/mosaicum.XXXXXX", folder);
        fd = mkostemp(path, O_CLOEXEC);
        if (fd < 0)
            return errno;
        unlink(path);
    }
    *file = fd;
    return 0;
}

static int read_input(const struct mos_host *h, void *to, size_t length, size_t *got) {
    ssize_t n;
    (void)h;
    do
        n = read(STDIN_FILENO, to, length);
    while (n < 0 && errno == EINTR);
    if (n < 0)
        return errno;
    *got = (size_t)n;
    return 0;
}

static void file_close(const struct mos_host *h, int file) {
    (void)h;
    close(file);
}

static int file_pread(const struct mos_host *h, int file, void *to, size_t length, uint64_t offset,
                      size_t *got) {
    (void)h;
    size_t n = 0;
    while (n < length) {
        ssize_t r = pread(file, (char *)to + n, length - n, (off_t)(offset + n));
        if (r < 0 && errno == EINTR)
            continue;
        if (r < 0)
            return errno;
        if (r == 0)
            break;
        n += (size_t)r;
    }
    *got = n;
    return 0;
}

static int file_pwrite(const struct mos_host *h, int file, const void *from, size_t length,
                       uint64_t offset) {
    (void)h;
    while (length) {
        ssize_t r = pwrite(file, from, length, (off_t)offset);
        if (r < 0 && errno == EINTR)
            continue;
        if (r <= 0)
            return r ? errno : EIO;
        from = (const char *)from + r;
        length -= (size_t)r;
        offset += (uint64_t)r;
    }
    return 0;
}

/* By hand, where the system cannot. */
static int copy_bytes(const struct mos_host *h, int from, uint64_t at, int to, uint64_t to_at,
                      uint64_t length) {
    static _Thread_local char piece[1 << 16];
    int e = 0;
    for (size_t n, got = 0; !e && length; at += n, to_at += n, length -= n) {
        n = length < sizeof piece ? (size_t)length : sizeof piece;
        e = file_pread(h, from, piece, n, at, &got);
        e = e ? e : got != n ? EIO : file_pwrite(h, to, piece, n, to_at);
    }
    return e;
}

static int file_copy(const struct mos_host *h, int from, uint64_t at, int to, uint64_t to_at,
                     uint64_t length) {
    struct file_clone_range range = {from, at, length, to_at};
    if (!length || ioctl(to, FICLONERANGE, &range) == 0)
        return 0;
    while (length) {
        off_t source = (off_t)at, target = (off_t)to_at;
        ssize_t n = copy_file_range(from, &source, to, &target, (size_t)length, 0);
        if (n < 0 && errno == EINTR)
            continue;
        if (n <= 0)
            return copy_bytes(h, from, at, to, to_at, length);
        at += (uint64_t)n;
        to_at += (uint64_t)n;
        length -= (uint64_t)n;
    }
    return 0;
}

static int file_resize(const struct mos_host *h, int file, uint64_t size) {
    (void)h;
    return ftruncate(file, (off_t)size) ? errno : 0;
}

static int file_sync(const struct mos_host *h, int file) {
    (void)h;
    return fdatasync(file) ? errno : 0;
}

static void file_settle(const struct mos_host *h, int file, uint64_t offset, uint64_t length) {
    (void)h;
    (void)!sync_file_range(file, (off_t)offset, (off_t)length, SYNC_FILE_RANGE_WRITE);
}

static int file_next_data(const struct mos_host *h, int file, uint64_t from, uint64_t *start,
                          uint64_t *end) {
    (void)h;
    struct stat st;
    if (fstat(file, &st))
        return errno;
    off_t data = lseek(file, (off_t)from, SEEK_DATA);
    if (data < 0 && errno == ENXIO) {
        *start = *end = (uint64_t)st.st_size;
        return 0;
    }
    if (data < 0) { /* the file system cannot tell: all is data */
        *start = from;
        *end = (uint64_t)st.st_size;
        return 0;
    }
    off_t hole = lseek(file, data, SEEK_HOLE);
    *start = (uint64_t)data;
    *end = hole < 0 ? (uint64_t)st.st_size : (uint64_t)hole;
    return 0;
}

void files_info(const struct stat *st, struct mos_file_info *out) {
    *out = (struct mos_file_info){
        .kind = S_ISREG(st->st_mode)   ? MOS_FILE_REGULAR
                : S_ISDIR(st->st_mode) ? MOS_FILE_FOLDER
                : S_ISLNK(st->st_mode) ? MOS_FILE_LINK
                                       : MOS_FILE_OTHER,
        .mode = st->st_mode & 07777,
        .size = (uint64_t)st->st_size,
        .mtime_s = st->st_mtim.tv_sec,
        .mtime_ns = (uint32_t)st->st_mtim.tv_nsec,
        .ctime_s = st->st_ctim.tv_sec,
        .ctime_ns = (uint32_t)st->st_ctim.tv_nsec,
        .device = st->st_dev,
        .inode = st->st_ino,
    };
}

static int path_info(const struct mos_host *h, const char *path, bool follow,
                     struct mos_file_info *out) {
    (void)h;
    struct stat st;
    if (follow ? stat(path, &st) : lstat(path, &st))
        return errno;
    files_info(&st, out);
    return 0;
}

static int open_info(const struct mos_host *h, int file, struct mos_file_info *out) {
    (void)h;
    struct stat st;
    if (fstat(file, &st))
        return errno;
    files_info(&st, out);
    return 0;
}

/* A byte of the file for each name (of two names with the same one waits for the other). */
static int lock_file(const struct mos_host *h, const char *path, const char *name, bool wait,
                     int *file) {
    (void)h;
    struct flock range = {.l_type = F_WRLCK, .l_whence = SEEK_SET, .l_len = 1};
    for (; *name; name++)
        range.l_start = (range.l_start * 257 + (unsigned char)*name) % (1ll << 52);
    int fd = open(path, O_RDWR | O_CREAT | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK, 0666);
    if (fd < 0)
        return errno;
    int e;
    do
        e = fcntl(fd, wait ? F_OFD_SETLKW : F_OFD_SETLK, &range) ? errno : 0;
    while (e == EINTR);
    if (e) {
        close(fd);
        return e == EACCES || e == EAGAIN ? EWOULDBLOCK : e;
    }
    *file = fd;
    return 0;
}

static int real_path(const struct mos_host *h, const char *path, char **out) {
    (void)h;
    char *real = realpath(path, NULL);
    if (!real)
        return errno;
    *out = real;
    return 0;
}

static const char *environment(const struct mos_host *h, const char *name) {
    (void)h;
    return getenv(name);
}

static int64_t now_ns(const struct mos_host *h) {
    (void)h;
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (int64_t)t.tv_sec * 1000000000 + t.tv_nsec;
}

static int64_t wall_ns(const struct mos_host *h) {
    (void)h;
    struct timespec t;
    clock_gettime(CLOCK_REALTIME, &t);
    return (int64_t)t.tv_sec * 1000000000 + t.tv_nsec;
}

static int64_t today(const struct mos_host *h) {
    (void)h;
    return (int64_t)time(NULL);
}

static int room(const struct mos_host *h, const char *path, uint64_t *bytes) {
    struct statvfs info;
    char part[4096];
    (void)h;
    snprintf(part, sizeof part, "%s", path);
    while (statvfs(part, &info)) { /* go up to what exists */
        char *slash = strrchr(part, '/');
        if (errno != ENOENT || strcmp(part, ".") == 0)
            return errno;
        if (!slash)
            snprintf(part, sizeof part, ".");
        else
            slash[slash == part] = 0;
    }
    *bytes = (uint64_t)info.f_bavail * info.f_frsize;
    return 0;
}

static bool has_program(const struct mos_host *h, const char *name) {
    static const char *const folders[] = {"/usr/local/bin", "/usr/bin", "/bin"};
    char path[4096];
    (void)h;
    if (strchr(name, '/'))
        return access(name, X_OK) == 0;
    for (size_t i = 0; i < sizeof folders / sizeof *folders; i++) {
        snprintf(path, sizeof path, "%s/%s", folders[i], name);
        if (access(path, X_OK) == 0)
            return true;
    }
    return false;
}

static unsigned cores(const struct mos_host *h) {
    cpu_set_t set; /* those that this process may use */
    (void)h;
    if (sched_getaffinity(0, sizeof set, &set) == 0 && CPU_COUNT(&set) > 0)
        return (unsigned)CPU_COUNT(&set);
    long n = sysconf(_SC_NPROCESSORS_ONLN);
    return n < 1 ? 1 : (unsigned)n;
}

const struct mos_host *mos_platform_host(void) {
    static struct mos_host host = {
        .computer = &mos_platform_computer,
        .wires = &mos_platform_wires,
        .open = file_open,
        .close = file_close,
        .pread = file_pread,
        .pwrite = file_pwrite,
        .copy = file_copy,
        .resize = file_resize,
        .sync = file_sync,
        .settle = file_settle,
        .next_data = file_next_data,
        .temporary = file_temporary,
        .read_input = read_input,
        .info = path_info,
        .file_info = open_info,
        .lock = lock_file,
        .real_path = real_path,
        .environment = environment,
        .now_ns = now_ns,
        .wall_ns = wall_ns,
        .today = today,
        .room = room,
        .has_program = has_program,
        .cores = cores,
    };
    mos_platform_folders(&host);
    mos_platform_programs(&host);
    mos_platform_workers(&host);
    return &host;
}
