#include "linux/link-map.h"

#include "base/text.h"

#include <stdlib.h>
#include <string.h>

/* "lib/lib.a(clz.o)" → "lib/clz.o"; a thin archive's member says its own folder. */
static const char *object_name(struct mos_arena *arena, const char *p, size_t n) {
    const char *open = n && p[n - 1] == ')' ? memchr(p, '(', n) : NULL;
    if (n > 2 && strncmp(p, "./", 2) == 0)
        return object_name(arena, p + 2, n - 2);
    if (!open)
        return mos_strndup(arena, p, n);
    size_t length = n - (size_t)(open + 1 - p) - 1, folder = (size_t)(open - p);
    if (!length)
        return mos_strndup(arena, p, n);
    if (memchr(open + 1, '/', length))
        return object_name(arena, open + 1, length);
    while (folder && p[folder - 1] != '/')
        folder--;
    return mos_printf(arena, "%.*s%.*s", (int)folder, p, (int)length, open + 1);
}

static bool read_hex(const char **p, uint64_t *value) {
    char *end;
    *p += strspn(*p, " \t");
    if (strncmp(*p, "0x", 2) != 0 || !strspn(*p + 2, "0123456789abcdef"))
        return false;
    *value = strtoull(*p, &end, 16);
    *p = end;
    return true;
}

static bool begins(const char *name, size_t n, const char *with) {
    return n >= strlen(with) && strncmp(name, with, strlen(with)) == 0;
}

struct map_reader {
    struct mos_arena *arena;
    struct mos_map *all;
    bool inside;         /* the section of the kernel that is told has a place in it */
    const char *section; /* an input section whose line goes on; NULL: none does */
    size_t length;
};

/* What stands behind an input section's name: address, size, object. */
static void take(struct map_reader *r, const char *p) {
    uint64_t address, size;
    if (!r->inside || !read_hex(&p, &address) || !read_hex(&p, &size) || *p != ' ')
        return; /* a symbol, or a line of the script */
    p += strspn(p, " ");
    size_t length = strcspn(p, "\r\n");
    if (!length)
        return;
    const char *object = object_name(r->arena, p, length);
    struct mos_link_size *s = mos_map_get(r->all, object);
    if (!s) {
        s = mos_alloc(r->arena, sizeof *s);
        s->object = object;
        mos_map_set(r->all, object, s);
    }
    bool clear = begins(r->section, r->length, ".bss") || begins(r->section, r->length, ".sbss") ||
                 begins(r->section, r->length, "COMMON");
    uint64_t *sum = clear ? &s->cleared : &s->stored;
    *sum = size > UINT64_MAX - *sum ? UINT64_MAX : *sum + size;
}

/* ".text  0x… 0x…": what has no address is not loaded; data of each processor may be at 0. */
static void open_section(struct map_reader *r, const char *line, size_t name) {
    uint64_t address = 0;
    const char *p = line + name + strspn(line + name, " \n");
    r->inside = begins(line, name, ".data..percpu") || (read_hex(&p, &address) && address);
}

/* A section of the kernel at the left, what it is made of after one space, a name that is too long
 * on a line of its own. */
struct mos_map mos_link_map_read(struct mos_arena *arena, const char *text) {
    struct mos_map all = mos_map_make(arena);
    struct map_reader r = {.arena = arena, .all = &all};
    for (size_t n; *text; text += n + (text[n] != 0)) {
        n = strcspn(text, "\n");
        size_t name = strcspn(text, " \r\n");
        if (name) {
            open_section(&r, text, name);
            r.section = NULL;
        } else if (n > 1 && text[1] != ' ' && text[1] != '*') {
            r.section = text + 1;
            r.length = strcspn(text + 1, " \r\n");
            take(&r, text + 1 + r.length);
        } else {
            if (r.section && n > 1)
                take(&r, text);
            r.section = NULL;
        }
    }
    return all;
}
