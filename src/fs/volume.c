/* What drivers share: writing into a region, and what readers tell. */
#include "fs/fs.h"

#include <assert.h>
#include <stdarg.h>
#include <string.h>

static void note(const struct mos_read_request *request, const char *format, va_list arguments) {
    assert(request->problems);
    if (request->problems->count < MOS_MOST_PROBLEMS)
        mos_vec_push_pointer(request->problems,
                             mos_vprintf(request->problems->arena, format, arguments));
}

void mos_volume_problem(const struct mos_read_request *request, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    note(request, format, arguments);
    va_end(arguments);
}

static bool is_below(const char *path, const char *folder) {
    size_t n = strlen(folder);
    return !n || (strncmp(path, folder, n) == 0 && (!path[n] || path[n] == '/'));
}

void mos_volume_lost(const struct mos_read_request *request, const char *path, const char *format,
                     ...) {
    va_list arguments;
    va_start(arguments, format);
    note(request, format, arguments);
    va_end(arguments);
    /* a folder above that lost names may have lost the one that is wanted */
    if (request->lost && (!path || !request->within || is_below(path, request->within) ||
                          is_below(request->within, path)))
        *request->lost = true;
}

void mos_volume_write(struct mos_volume_base *v, const void *bytes, size_t length,
                      uint64_t offset) {
    assert(bytes || !length);
    if (v->io && !v->errnum && offset <= v->io->size && length <= v->io->size - offset)
        v->errnum = mos_io_write(v->io, bytes, length, offset);
}

void mos_volume_zero(struct mos_volume_base *v, uint64_t offset, uint64_t length) {
    static const char zeros[4096];
    for (size_t n; length && v->io; offset += n, length -= n) {
        n = length < sizeof zeros ? (size_t)length : sizeof zeros;
        mos_volume_write(v, zeros, n, offset);
    }
}

bool mos_wants_no_data(void *self, const struct mos_entry *entry) {
    (void)self;
    (void)entry;
    return false;
}

void mos_fs_foresee_uuid(struct mos_arena *arena, const struct mos_volume_wish *wish,
                         struct mos_volume_info *out) {
    char id[37];
    mos_uuid_text(wish->uuid, id);
    out->label = mos_strndup(arena, wish->label, strnlen(wish->label, 16));
    out->id = mos_strdup(arena, id);
}
