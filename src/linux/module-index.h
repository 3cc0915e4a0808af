/* The files beside kernel modules that the system's module loader reads to find them: made, and the
 * binary ones read. */
#ifndef MOS_LINUX_MODULE_INDEX_H
#define MOS_LINUX_MODULE_INDEX_H

#include "base/buf.h"
#include "base/map.h"

/* What an index says of one module.  The vectors are of const char *. */
struct mos_indexed_module {
    const char *name; /* with _ instead of - */
    const char *path; /* below the folder of the release: "kernel/fs/ext4/ext4.ko" */
    struct mos_vec needs, aliases, soft, weak, symbols;
    struct mos_vec tables; /* compatible texts of its match tables: some have no alias for them */
};

/* What lies in the folder besides, which the kernel's build has made; NULL: it does not. */
struct mos_index_extras {
    const char *order;    /* modules.order: a path a line; which of two goes first */
    const char *builtin;  /* modules.builtin: a path a line */
    const uint8_t *facts; /* modules.builtin.modinfo: "NAME.KEY=VALUE", each ended by a NUL */
    size_t facts_length;
};

struct mos_index_file {
    const char *name;
    struct mos_buf bytes;
};

/* Pushes the files (struct mos_index_file) for `modules` (of struct mos_indexed_module *).  A need
 * that is neither among them nor built in is left out; *lacking: how many are (of the first,
 * *module and *need).  false: too large for the form (256 MiB). */
struct mos_index_lack {
    size_t count;
    const char *module, *need;
};
bool mos_module_index(struct mos_arena *arena, const struct mos_vec *modules,
                      const struct mos_index_extras *extras, struct mos_vec *out,
                      struct mos_index_lack *lacking);

/* ---- the binary form: a tree by the characters of the keys ---- */

struct mos_trie_value {
    const char *key, *value;
    uint32_t priority; /* the lowest comes first */
};

/* Writes values (of struct mos_trie_value; sorted here).  Keys with other than ASCII characters
 * cannot be kept and are left out.  false: more than 256 MiB. */
bool mos_trie_write(struct mos_buf *out, struct mos_vec *values);
/* Pushes every value of such a file (keys in the arena, values in `bytes`); false: it is none, or
 * damaged. */
bool mos_trie_read(struct mos_arena *arena, const uint8_t *bytes, size_t length,
                   struct mos_vec *out);

#endif
