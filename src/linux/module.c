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

static bool find_section(const uint8_t *p, size_t length, const char *name, struct section *out) {
    bool wide = p[4] == CLASS_64;
    struct section names;
    unsigned count = mos_le16(p + (wide ? 60 : 48));
    if (!section_at(p, length, mos_le16(p + (wide ? 62 : 50)), &names))
        return false;
    for (unsigned i = 1; i < count; i++)
        if (section_at(p, length, i, out) && is_named(p, &names, out, name))
            return true;
    return false;
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
        else if (strncmp(fact, "softdep=", 8) == 0) {
            add_soft(arena, fact + 8, out);
            mos_vec_push_pointer(&out->soft, fact + 8);
        } else if (strncmp(fact, "weakdep=", 8) == 0) {
            add_names(arena, fact + 8, &out->wants);
            mos_vec_push_pointer(&out->weak, fact + 8);
        }
        if (strncmp(fact, "vermagic=", 9) == 0)
            out->release = mos_strndup(arena, fact + 9, strcspn(fact + 9, " "));
        else if (strncmp(fact, "alias=", 6) == 0)
            mos_vec_push_pointer(&out->aliases, fact + 6);
        at += n + 1;
    }
}

bool mos_module_read(struct mos_arena *arena, const uint8_t *bytes, size_t length,
                     struct mos_module_info *out) {
    struct mos_program_info program;
    struct section s;
    *out = (struct mos_module_info){.needs = mos_vec_make(arena, sizeof(char *)),
                                    .wants = mos_vec_make(arena, sizeof(char *)),
                                    .wants_after = mos_vec_make(arena, sizeof(char *)),
                                    .aliases = mos_vec_make(arena, sizeof(char *)),
                                    .soft = mos_vec_make(arena, sizeof(char *)),
                                    .weak = mos_vec_make(arena, sizeof(char *))};
    if (!mos_program_read(arena, bytes, length, &program) || !program.elf)
        return false;
    out->cpu = program.cpu;
    if (!find_section(bytes, length, ".modinfo", &s))
        return false;
    read_facts(arena, bytes + s.offset, (size_t)s.size, out);
    return true;
}

/* ---- symbols ---- */

/* Symbols with a sum; their names lie in the string table .strtab. */
static void read_sums(struct mos_arena *arena, const uint8_t *p, size_t length,
                      struct mos_vec *out) {
    static const char prefix[] = "__crc_";
    bool wide = p[4] == CLASS_64;
    size_t row = wide ? 24 : 16, n = strlen(prefix);
    struct section symbols, texts;
    if (!find_section(p, length, ".symtab", &symbols) ||
        !find_section(p, length, ".strtab", &texts))
        return;
    for (uint64_t at = 0; at < symbols.size && symbols.size - at >= row; at += row) {
        uint32_t name = mos_le32(p + symbols.offset + at);
        if (name >= texts.size)
            continue;
        const char *text = (const char *)p + texts.offset + name;
        size_t room = (size_t)(texts.size - name), whole = strnlen(text, room);
        if (whole < room && whole > n && strncmp(text, prefix, n) == 0)
            mos_vec_push_pointer(out, mos_strndup(arena, text + n, whole - n));
    }
}

void mos_module_symbols(struct mos_arena *arena, const uint8_t *bytes, size_t length,
                        struct mos_vec *out) {
    struct mos_program_info program;
    struct section s;
    size_t before = out->count;
    if (!mos_program_read(arena, bytes, length, &program) || !program.elf)
        return;
    read_sums(arena, bytes, length, out);
    if (out->count > before || !find_section(bytes, length, "__ksymtab_strings", &s))
        return;
    for (size_t at = 0, n; at < s.size; at += n + 1) {
        const char *text = (const char *)bytes + s.offset + at;
        n = strnlen(text, (size_t)s.size - at);
        if (n && at + n < s.size)
            mos_vec_push_pointer(out, mos_strndup(arena, text, n));
    }
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
