#define MOS_ARCHIVE_LIBRARY_ITSELF
#include "content/library.h"

#include <dlfcn.h>
#include <stddef.h>
#include <threads.h>

static const char file[] = "libarchive.so.13";
static struct mos_archive_library library;
static const char *missing;
static once_flag once = ONCE_FLAG_INIT;

static struct archive *none(void) {
    return NULL;
}

static void load(void) {
    void *handle = dlopen(file, RTLD_NOW | RTLD_LOCAL);
    missing = handle ? NULL : "the library libarchive.so.13 (package libarchive13) is not there";
#define X(name)                                                                                    \
    if (handle && !(*(void **)&library.name = dlsym(handle, #name)))                               \
        missing = "the library libarchive.so.13 lacks " #name;
    MOS_ARCHIVE_FUNCTIONS(X)
#undef X
    if (missing)
        library.archive_read_new = library.archive_write_new = none;
}

const struct mos_archive_library *mos_archive_library(void) {
    call_once(&once, load);
    return &library;
}

const char *mos_archive_missing(void) {
    call_once(&once, load);
    return missing;
}
