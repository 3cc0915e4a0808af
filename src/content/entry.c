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
