#include "content/entry.h"

#include <string.h>

const char *mos_entry_path(struct mos_buf *buffer, const char *path) {
    buffer->length = 0;
    while (*path) {
        path += strspn(path, "/");
        size_t n = strcspn(path, "/");
        if (n == 2 && path[0] == '.' && path[1] == '.')
            return NULL;
        if (n && !(n == 1 && path[0] == '.')) {
            if (buffer->length)
                mos_buf_char(buffer, '/');
            mos_buf_add(buffer, path, n);
        }
        path += n;
    }
    return mos_buf_string(buffer);
}

bool mos_ignore_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    (void)self;
    (void)offset;
    (void)bytes;
    (void)length;
    return true;
}

bool mos_ignore_end(void *self, uint64_t sum) {
    (void)self;
    (void)sum;
    return true;
}
