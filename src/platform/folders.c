#define _GNU_SOURCE
#include "platform/platform.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

static int folder_list(const struct mos_host *h, const char *path,
                       bool (*each)(void *self, const char *name), void *self) {
    (void)h;
    DIR *d = opendir(path);
    if (!d)
        return errno;
    struct dirent *e;
    while ((e = readdir(d)))
        if (strcmp(e->d_name, ".") != 0 && strcmp(e->d_name, "..") != 0 && !each(self, e->d_name))
            break;
    closedir(d);
    return 0;
}

static int folder_survey(const struct mos_host *h, const char *path,
                         bool (*each)(void *self, const char *name,
                                      const struct mos_file_info *info),
                         void *self) {
    (void)h;
    DIR *d = opendir(path);
    if (!d)
        return errno;
    struct dirent *e;
    int failed = 0;
    while (!failed && (e = readdir(d))) {
        struct stat st;
        struct mos_file_info info;
        if (strcmp(e->d_name, ".") == 0 || strcmp(e->d_name, "..") == 0)
            continue;
        if (fstatat(dirfd(d), e->d_name, &st, AT_SYMLINK_NOFOLLOW)) {
            failed = errno == ENOENT ? 0 : errno; /* it has just gone */
            continue;
        }
        files_info(&st, &info);
        if (!each(self, e->d_name, &info))
            break;
    }
    closedir(d);
    return failed;
}

static int folder_make_link(const struct mos_host *h, const char *target, const char *path) {
    (void)h;
    return symlink(target, path) ? errno : 0;
}

static int folder_read_link(const struct mos_host *h, const char *path, char *to, size_t size) {
    (void)h;
    ssize_t n = readlink(path, to, size);
    if (n < 0)
        return errno;
    if ((size_t)n >= size)
        return ENAMETOOLONG;
    to[n] = 0;
    return 0;
}

static int folder_make(const struct mos_host *h, const char *path) {
    (void)h;
    char part[PATH_MAX];
    size_t n = strlen(path);
    if (n >= sizeof part)
        return ENAMETOOLONG;
    for (size_t i = 1; i <= n; i++) {
        if (path[i] != '/' && path[i])
            continue;
        memcpy(part, path, i);
        part[i] = 0;
        if (mkdir(part, 0777) && errno != EEXIST)
            return errno;
    }
    struct stat st;
    if (stat(path, &st))
        return errno;
    return S_ISDIR(st.st_mode) ? 0 : ENOTDIR;
}

static int remove_at(int folder, const char *name) {
    if (unlinkat(folder, name, 0) == 0 || errno == ENOENT)
        return 0;
    if (errno != EISDIR && errno != EPERM)
        return errno;
    int fd = openat(folder, name, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
    if (fd < 0)
        return errno;
    DIR *d = fdopendir(fd);
    if (!d) {
        close(fd);
        return ENOMEM;
    }
    int e = 0;
    struct dirent *entry;
    while (!e && (entry = readdir(d)))
        if (strcmp(entry->d_name, ".") != 0 && strcmp(entry->d_name, "..") != 0)
            e = remove_at(dirfd(d), entry->d_name);
    closedir(d);
    if (!e && unlinkat(folder, name, AT_REMOVEDIR))
        e = errno;
    return e;
}

static int folder_remove_tree(const struct mos_host *h, const char *path) {
    (void)h;
    return remove_at(AT_FDCWD, path);
}

static int folder_rename(const struct mos_host *h, const char *from, const char *to) {
    (void)h;
    return rename(from, to) ? errno : 0;
}

static int folder_rename_new(const struct mos_host *h, const char *from, const char *to) {
    (void)h;
    if (renameat2(AT_FDCWD, from, AT_FDCWD, to, RENAME_NOREPLACE) == 0)
        return 0;
    if (errno != EINVAL && errno != ENOSYS)
        return errno;
    if (link(from, to)) /* files only, but never over another */
        return errno;
    return unlink(from) ? errno : 0;
}

static int folder_protect(const struct mos_host *h, const char *path, uint32_t mode) {
    (void)h;
    struct stat st;
    if (lstat(path, &st))
        return errno;
    if (S_ISLNK(st.st_mode))
        return ELOOP;
    return chmod(path, (mode_t)mode) ? errno : 0;
}

static int folder_exchange(const struct mos_host *h, const char *a, const char *b) {
    (void)h;
    if (renameat2(AT_FDCWD, a, AT_FDCWD, b, RENAME_EXCHANGE) == 0)
        return 0;
    return errno == EINVAL || errno == ENOSYS ? ENOTSUP : errno;
}

static int folder_sync(const struct mos_host *h, const char *path) {
    (void)h;
    int fd = open(path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (fd < 0)
        return errno;
    int e = fsync(fd) ? errno : 0;
    close(fd);
    return e;
}

static int folder_own_like(const struct mos_host *h, const char *path, const char *like) {
    (void)h;
    struct stat st, of;
    int fd = open(path, O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC);
    if (fd < 0)
        return errno;
    int e = fstat(fd, &st) || stat(like, &of) ? errno : 0;
    if (!e && geteuid() == 0 && (st.st_uid != of.st_uid || st.st_gid != of.st_gid) &&
        (S_ISDIR(st.st_mode) || st.st_nlink == 1) && /* another name may be somebody else's */
        fchown(fd, of.st_uid, of.st_gid))
        e = errno;
    close(fd);
    return e;
}

void mos_platform_folders(struct mos_host *host) {
    host->list = folder_list;
    host->survey = folder_survey;
    host->read_link = folder_read_link;
    host->make_link = folder_make_link;
    host->make_folder = folder_make;
    host->remove_tree = folder_remove_tree;
    host->rename = folder_rename;
    host->rename_new = folder_rename_new;
    host->protect = folder_protect;
    host->own_like = folder_own_like;
    host->exchange = folder_exchange;
    host->sync_folder = folder_sync;
}
