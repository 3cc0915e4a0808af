/* The index of kernel modules: what is written is what a reader finds that knows the form alone. */
#include "binaries.h"
#include "support.h"

#include "base/bytes.h"
#include "linux/module-index.h"
#include "linux/module.h"

#include <stdlib.h>
#include <string.h>

/* ---- the binary form ---- */

/* The values of one key as the system's module loader finds them: it goes down from the root.
 * Returns how many there are, their texts into `out` in the order of the file. */
static size_t look_up(const uint8_t *p, const char *key, const char **out, size_t most) {
    uint32_t word = mos_be32(p + 8);
    for (;;) {
        const uint8_t *at = p + (word & 0x0fffffff), *children = NULL;
        if (word & 0x80000000) {
            size_t n = strlen((const char *)at);
            if (strncmp(key, (const char *)at, n) != 0)
                return 0;
            key += n;
            at += n + 1;
        }
        if (word & 0x20000000) {
            children = at;
            at += 2 + 4 * (size_t)(at[1] - at[0] + 1);
        }
        if (*key) {
            unsigned char c = (unsigned char)*key++;
            word = children && c >= children[0] && c <= children[1]
                       ? mos_be32(children + 2 + 4 * (c - children[0]))
                       : 0;
            if (!word)
                return 0;
            continue;
        }
        uint32_t count = word & 0x40000000 ? mos_be32(at) : 0;
        at += 4;
        for (uint32_t i = 0; i < count && i < most; i++) {
            out[i] = (const char *)at + 4;
            at += 4 + strlen((const char *)at + 4) + 1;
        }
        return count;
    }
}

enum { KEYS = 60, ROUNDS = 200, EACH = 4 };

/* Keys that begin alike, also with nothing; of one of them at most EACH values. */
static struct mos_vec some_values(struct core *c, uint64_t *seed, size_t count) {
    static const char letters[] = "ab_*[-]:\1\177";
    struct mos_vec v = mos_vec_make(c->ctx.arena, sizeof(struct mos_trie_value));
    for (size_t i = 0; i < count; i++) {
        char key[12] = "";
        size_t n = random_below(seed, sizeof key);
        for (size_t k = 0; k < n; k++)
            key[k] = letters[random_below(seed, random_below(seed, 2) ? 2 : sizeof letters - 1)];
        size_t values = 1 + random_below(seed, EACH);
        for (size_t k = 0; k < values; k++)
            *(struct mos_trie_value *)mos_vec_push(&v) = (struct mos_trie_value){
                mos_strdup(c->ctx.arena, key), mos_printf(c->ctx.arena, "m%zu", k),
                (uint32_t)random_below(seed, 3)};
    }
    return v;
}

static bool is_among(const struct mos_vec *all, const struct mos_trie_value *x, bool lower) {
    for (size_t i = 0; i < all->count; i++) {
        const struct mos_trie_value *y = mos_vec_at(all, i);
        if (strcmp(x->key, y->key) == 0 && strcmp(x->value, y->value) == 0 &&
            (lower || x->priority == y->priority))
            return true;
    }
    return false;
}

static void what_is_written_is_found(void) {
    uint64_t seed = 71;
    for (int round = 0; round < ROUNDS; round++) {
        struct core c;
        core_start(&c);
        struct mos_vec in = some_values(&c, &seed, random_below(&seed, KEYS)),
                       out = mos_vec_make(c.ctx.arena, sizeof(struct mos_trie_value)),
                       sorted = mos_vec_copy(c.ctx.arena, &in);
        struct mos_buf b = {.arena = c.ctx.arena};
        CU_ASSERT_TRUE_FATAL(mos_trie_write(&b, &sorted));
        CU_ASSERT_TRUE_FATAL(mos_trie_read(c.ctx.arena, (const uint8_t *)b.data, b.length, &out));
        for (size_t i = 0; i < in.count; i++) /* a pair that came twice may have lost a number */
            CU_ASSERT_TRUE(is_among(&out, mos_vec_at(&in, i), true));
        for (size_t i = 0; i < out.count; i++) {
            const struct mos_trie_value *x = mos_vec_at(&out, i);
            const char *found[256];
            size_t count = look_up((const uint8_t *)b.data, x->key, found, 256), here = 0;
            CU_ASSERT_TRUE(is_among(&in, x, false));
            for (size_t k = 0; k < count && k < 256; k++)
                here += strcmp(found[k], x->value) == 0;
            CU_ASSERT(here > 0);
        }
        const char *none[1];
        CU_ASSERT_EQUAL(look_up((const uint8_t *)b.data, "bus:of-none", none, 1), 0);
        for (size_t n = 0; n < b.length; n++) { /* cut anywhere: never beyond its end */
            struct mos_vec less = mos_vec_make(c.ctx.arena, sizeof(struct mos_trie_value));
            bool whole = mos_trie_read(c.ctx.arena,
                                       memcpy(mos_alloc(c.ctx.arena, n + 1), b.data, n), n, &less);
            CU_ASSERT(!whole || (!in.count && n >= 12));
        }
        core_end(&c);
    }
}

/* The lowest number first; keys that the form cannot hold are left out. */
static void values_have_their_order(void) {
    struct core c;
    core_start(&c);
    struct mos_vec v = mos_vec_make(c.ctx.arena, sizeof(struct mos_trie_value));
    static const struct mos_trie_value rows[] = {{"of:tide*", "gauge", 9},
                                                 {"of:tide*", "buoy", 3},
                                                 {"of:tide*", "mast", 5},
                                                 {"of:t\303\244nde", "foreign", 1}};
    for (size_t i = 0; i < 4; i++)
        *(struct mos_trie_value *)mos_vec_push(&v) = rows[i];
    struct mos_buf b = {.arena = c.ctx.arena};
    const char *found[4];
    CU_ASSERT_TRUE_FATAL(mos_trie_write(&b, &v));
    CU_ASSERT_EQUAL_FATAL(look_up((const uint8_t *)b.data, "of:tide*", found, 4), 3);
    CU_ASSERT_STRING_EQUAL(found[0], "buoy");
    CU_ASSERT_STRING_EQUAL(found[1], "mast");
    CU_ASSERT_STRING_EQUAL(found[2], "gauge");
    CU_ASSERT_EQUAL(v.count, 3);
    core_end(&c);
}

/* ---- what is in the files ---- */

static struct mos_vec words(struct core *c, const char *text) {
    struct mos_vec v = mos_vec_make(c->ctx.arena, sizeof(char *));
    for (size_t n; *text; text += n + (text[n] == '|')) {
        n = strcspn(text, "|");
        if (n)
            mos_vec_push_pointer(&v, mos_strndup(c->ctx.arena, text, n));
    }
    return v;
}

static void files_say_what_modules_say(void) {
    static const struct {
        const char *path, *needs, *aliases, *soft, *weak, *symbols;
    } rows[] = {
        {"kernel/bus/estuary-bus.ko", "", "of:N*Tbus-[a-z]|char-major-10-77|devname:estuary", "",
         "", "estuary_read|estuary_write"},
        {"kernel/buoy.ko", "estuary-bus", "of:N*Ttide*", "pre: crc_tide", "", ""},
        {"kernel/gauge.ko.xz", "buoy|estuary_bus", "of:N*Ttide*", "", "mast", ""},
        {"updates/buoy.ko", "estuary_bus|wave", "of:N*Ttide*", "", "", ""},
    };
    static const char facts[] = "wave.license=GPL\0wave.alias=of:N*Cwave-top\0";
    static const struct {
        const char *file, *text; /* without its first line where that is a comment */
    } files[] = {
        {"modules.dep", "kernel/bus/estuary-bus.ko:\nupdates/buoy.ko: kernel/bus/estuary-bus.ko\n"
                        "kernel/gauge.ko.xz: updates/buoy.ko kernel/bus/estuary-bus.ko\n"},
        {"modules.alias",
         "alias of:N*Tbus-[a-z] estuary_bus\nalias char-major-10-77 estuary_bus\nalias "
         "devname:estuary estuary_bus\nalias of:N*Ttide* buoy\nalias of:N*Ttide* gauge\n"},
        {"modules.symbols",
         "alias symbol:estuary_read estuary_bus\nalias symbol:estuary_write estuary_bus\n"},
        {"modules.softdep", ""},
        {"modules.weakdep", "weakdep gauge mast\n"},
        {"modules.devname", "estuary_bus estuary c10:77\n"},
    };
    static const struct {
        const char *file, *key, *values;
    } tries[] = {{"modules.dep.bin", "buoy", "updates/buoy.ko: kernel/bus/estuary-bus.ko"},
                 {"modules.dep.bin", "estuary-bus", ""},
                 {"modules.alias.bin", "of:N*Tbus_[a-z]", "estuary_bus"},
                 {"modules.alias.bin", "of:N*Ttide*", "gauge|buoy"}, /* modules.order */
                 {"modules.symbols.bin", "symbol:estuary_write", "estuary_bus"},
                 {"modules.builtin.bin", "wave", ""},
                 {"modules.builtin.alias.bin", "of:N*Cwave_top", "wave"}};
    struct core c;
    core_start(&c);
    struct mos_vec modules = mos_vec_make(c.ctx.arena, sizeof(void *)),
                   out = mos_vec_make(c.ctx.arena, sizeof(struct mos_index_file));
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        struct mos_indexed_module *m = mos_alloc(c.ctx.arena, sizeof *m);
        *m = (struct mos_indexed_module){mos_module_name(c.ctx.arena, rows[i].path),
                                         rows[i].path,
                                         words(&c, rows[i].needs),
                                         words(&c, rows[i].aliases),
                                         words(&c, rows[i].soft),
                                         words(&c, rows[i].weak),
                                         words(&c, rows[i].symbols)};
        mos_vec_push_pointer(&modules, m);
    }
    struct mos_index_extras extras = {"kernel/gauge.ko\nkernel/buoy.ko\n", "kernel/wave.ko\n",
                                      (const uint8_t *)facts, sizeof facts - 1};
    struct mos_index_lack lacking;
    CU_ASSERT_TRUE_FATAL(mos_module_index(c.ctx.arena, &modules, &extras, &out, &lacking));
    CU_ASSERT_EQUAL(lacking.count, 0);
    for (size_t i = 0; i < sizeof files / sizeof *files; i++) {
        const char *text = NULL;
        for (size_t k = 0; k < out.count; k++) {
            struct mos_index_file *f = mos_vec_at(&out, k);
            if (strcmp(f->name, files[i].file) == 0)
                text = mos_buf_string(&f->bytes);
        }
        CU_ASSERT_PTR_NOT_NULL_FATAL(text);
        if (*text == '#')
            text = strchr(text, '\n') + 1;
        CU_ASSERT_STRING_EQUAL(text, files[i].text);
    }
    for (size_t i = 0; i < sizeof tries / sizeof *tries; i++)
        for (size_t k = 0; k < out.count; k++) {
            struct mos_index_file *f = mos_vec_at(&out, k);
            const char *found[4] = {0};
            if (strcmp(f->name, tries[i].file) != 0)
                continue;
            size_t count = look_up((const uint8_t *)f->bytes.data, tries[i].key, found, 4);
            struct mos_buf all = {.arena = c.ctx.arena};
            for (size_t n = 0; n < count; n++)
                mos_buf_printf(&all, "%s%s", n ? "|" : "", found[n]);
            CU_ASSERT_STRING_EQUAL(mos_buf_string(&all), tries[i].values);
        }
    extras.builtin = NULL; /* what is neither there nor built in is said */
    CU_ASSERT_TRUE(mos_module_index(c.ctx.arena, &modules, &extras, &out, &lacking));
    CU_ASSERT_EQUAL_FATAL(lacking.count, 1);
    CU_ASSERT(strcmp(lacking.module, "buoy") == 0 && strcmp(lacking.need, "wave") == 0);
    core_end(&c);
}

SUITE(indexes_suite, {"what is written is found", what_is_written_is_found},
      {"values have their order", values_have_their_order},
      {"files say what modules say", files_say_what_modules_say});
