/* Kernel modules: what one says of itself (section .modinfo of its ELF file). */
#ifndef MOS_LINUX_MODULE_H
#define MOS_LINUX_MODULE_H

#include "base/buf.h"

struct mos_module_info {
    const char *cpu;      /* as in program.h; NULL: another */
    const char *release;  /* of the kernel that it was made for; NULL: it does not say */
    struct mos_vec needs; /* of const char *: modules that must be loaded before it */
    /* the same, where they are there: softdep pre and weakdep; and what may come after it.  Names
     * of modules, or aliases that several modules may answer to. */
    struct mos_vec wants, wants_after;
    struct mos_vec aliases; /* of const char *: patterns with * and ? */
    struct mos_vec soft;    /* of const char *: softdep and weakdep, each as its line says it */
    struct mos_vec weak;
};

/* Reads an uncompressed module (ELF, System V ABI: section headers).  false: it is none.  All that
 * is returned lives in the arena. */
bool mos_module_read(struct mos_arena *arena, const uint8_t *bytes, size_t length,
                     struct mos_module_info *out);
/* Pushes (const char *) the symbols that such a module gives to others: those with a sum
 * (__crc_NAME in .symtab), else those that it lists by name (__ksymtab_strings). */
void mos_module_symbols(struct mos_arena *arena, const uint8_t *bytes, size_t length,
                        struct mos_vec *out);

/* The name of the module in a file "…/virtio-blk.ko.xz": "virtio_blk"; NULL: it is none. */
const char *mos_module_name(struct mos_arena *arena, const char *path);
/* Do two names mean one module?  - and _ are the same. */
bool mos_module_same(const char *a, const char *b);

#endif
