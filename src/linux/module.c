#include "linux/module.h"

#include "base/bytes.h"
#include "linux/program.h"

#include <string.h>

enum { CLASS_64 = 2, MOST_SECTIONS = 4096 };

struct section {
    uint64_t offset, size;
    uint32_t name;
};

/* One row of the section table; false: it does not lie in the file. */
static bool section_at(const uint8_t *p, size_t length, unsigned index, struct section *out) {
    bool wide = p[4] == CLASS_64;
    uint64_t table = wide ? mos_le64(p + 40) : mos_le32(p + 32);
    unsigned size = mos_le16(p + (wide ? 58 : 46)), count = mos_le16(p + (wide ? 60 : 48));
    uint64_t at = table + (uint64_t)index * size;
    if (index >= count || index >= MOST_SECTIONS || size < (wide ? 64 : 40) || table > length ||
        at > length || length - at < size)
        return false;
    out->name = mos_le32(p + at);
    out->offset = wide ? mos_le64(p + at + 24) : mos_le32(p + at + 16);
    out->size = wide ? mos_le64(p + at + 32) : mos_le32(p + at + 20);
    return out->offset <= length && out->size <= length - out->offset;
}

static bool is_named(const uint8_t *p, const struct section *names, const struct section *s,
                     const char *name) {
    size_t n = strlen(name) + 1;
    return s->name < names->size && names->size - s->name >= n &&
           memcmp(p + names->offset + s->name, name, n) == 0;
}

/* "a,b,c" or "a b c" */
static void add_names(struct mos_arena *arena, const char *text, struct mos_vec *out) {
    for (size_t n; *(text += strspn(text, ", \t")); text += n) {
        n = strcspn(text, ", \t");
        mos_vec_push_pointer(out, mos_strndup(arena, text, n));
    }
}

/* "pre: a b post: c", in any order; words before either go nowhere. */
static void add_soft(struct mos_arena *arena, const char *text, struct mos_module_info *out) {
    struct mos_vec words = mos_vec_make(arena, sizeof(char *)), *to = NULL;
    add_names(arena, text, &words);
    for (size_t i = 0; i < words.count; i++) {
        const char *word = mos_vec_pointer(&words, i);
        if (strcmp(word, "pre:") == 0)
            to = &out->wants;
        else if (strcmp(word, "post:") == 0)
            to = &out->wants_after;
        else if (to)
            mos_vec_push_pointer(to, word);
    }
}

static void read_facts(struct mos_arena *arena, const uint8_t *p, size_t size,
                       struct mos_module_info *out) {
    for (size_t at = 0; at < size;) {
        size_t n = strnlen((const char *)p + at, size - at);
        const char *fact = mos_strndup(arena, (const char *)p + at, n);
        if (strncmp(fact, "depends=", 8) == 0)
            add_names(arena, fact + 8, &out->needs);
        else if (strncmp(fact, "softdep=", 8) == 0)
            add_soft(arena, fact + 8, out);
        else if (strncmp(fact, "weakdep=", 8) == 0)
            add_names(arena, fact + 8, &out->wants);
        else if (strncmp(fact, "vermagic=", 9) == 0)
            out->release = mos_strndup(arena, fact + 9, strcspn(fact + 9, " "));
        else if (strncmp(fact, "alias=", 6) == 0)
            mos_vec_push_pointer(&out->aliases, fact + 6);
        at += n + 1;
    }
}

bool mos_module_read(struct mos_arena *arena, const uint8_t *bytes, size_t length,
                     struct mos_module_info *out) {
    struct mos_program_info program;
    struct section names, s;
    *out = (struct mos_module_info){.needs = mos_vec_make(arena, sizeof(char *)),
                                    .wants = mos_vec_make(arena, sizeof(char *)),
                                    .wants_after = mos_vec_make(arena, sizeof(char *)),
                                    .aliases = mos_vec_make(arena, sizeof(char *))};
    if (!mos_program_read(arena, bytes, length, &program) || !program.elf)
        return false;
    out->cpu = program.cpu;
    unsigned texts = mos_le16(bytes + (bytes[4] == CLASS_64 ? 62 : 50));
    if (!section_at(bytes, length, texts, &names))
        return false;
    unsigned count = mos_le16(bytes + (bytes[4] == CLASS_64 ? 60 : 48));
    for (unsigned i = 1; i < count; i++) {
        if (!section_at(bytes, length, i, &s) || !is_named(bytes, &names, &s, ".modinfo"))
            continue;
        read_facts(arena, bytes + s.offset, (size_t)s.size, out);
        return true;
    }
    return false;
}

const char *mos_module_name(struct mos_arena *arena, const char *path) {
    const char *slash = strrchr(path, '/'), *base = slash ? slash + 1 : path;
    const char *end = strstr(base, ".ko");
    if (!end || end == base || (end[3] && end[3] != '.'))
        return NULL;
    char *name = mos_strndup(arena, base, (size_t)(end - base));
    for (char *c = name; *c; c++)
        *c = *c == '-' ? '_' : *c;
    return name;
}

bool mos_module_same(const char *a, const char *b) {
    while (*a && (*a == *b || ((*a == '-' || *a == '_') && (*b == '-' || *b == '_'))))
        a++, b++;
    return *a == *b;
}
