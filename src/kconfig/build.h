/* What a kernel's sources say of their drivers: which compatible texts the match tables of each
 * file have, and which symbols build it (Documentation/kbuild/makefiles.rst). */
#ifndef MOS_KCONFIG_BUILD_H
#define MOS_KCONFIG_BUILD_H

#include "kconfig/kconfig.h"

struct mos_kc_build {
    struct mos_vec drivers; /* of struct mos_kc_source_driver, by compatible */
    struct mos_vec rules;   /* of struct mos_kc_rule, by object */
    const char *folder;
    struct mos_vec files; /* of const char *: build files, too */
    size_t lost;          /* files and folders that could not be looked at */
    uint8_t sha256[32];   /* of the names, sizes and times of all of them: another one elsewhere */
    uint8_t said[32];     /* of what they say, once that is read: the same everywhere */
};
/* The key of rows is their first member. */
struct mos_kc_source_driver {
    const char *compatible; /* or a name on its bus: "i2c:part", "spi:part" */
    const char *file;       /* "drivers/tty/serial/amba-pl011.c" */
};
/* `object` becomes part of `of`, or of the kernel (of NULL), where `symbol` is on. */
struct mos_kc_rule {
    const char *object; /* "drivers/tty/serial/amba-pl011.o", or a folder: "drivers/tty/" */
    const char *of;     /* an object that is linked of several; or NULL */
    const char *symbol; /* without CONFIG_; NULL: always */
    /* What else must be so, of what a build file asks about: "A=y !B"; "m": only as a module; "?":
     * a condition that is not understood; NULL: nothing. */
    const char *guard;
};
enum mos_kc_certainty {
    MOS_KC_UNNAMED, /* no build file names it */
    MOS_KC_OPEN,    /* it stands in a condition that is not understood */
    MOS_KC_LIKELY,  /* not all of its folders are named */
    MOS_KC_SURE
};

/* Looks what lies below `folder`, of one architecture (a folder below arch/; NULL: of none),
 * without reading it: its hash is known.  sources: the drivers, too, not build files alone.  NULL
 * with ctx->error. */
struct mos_kc_build *mos_kc_build_open(struct mos_ctx *ctx, const char *folder, const char *arch,
                                       bool sources);
/* Reads all of it. */
void mos_kc_build_load(struct mos_ctx *ctx, struct mos_kc_build *b);
/* As a text that can be kept by the hash, and back (the text is changed, and stays part of it);
 * false: it is none. */
void mos_kc_build_write(const struct mos_kc_build *b, struct mos_buf *out);
bool mos_kc_build_take(struct mos_kc_build *b, char *text);

/* The same of files that are at hand, for tests: a new one, each file by its name, the end. */
struct mos_kc_build *mos_kc_build_new(struct mos_arena *arena);
void mos_kc_build_add(struct mos_arena *arena, struct mos_kc_build *b, const char *file,
                      const char *text);
void mos_kc_build_finish(struct mos_kc_build *b);

/* Drivers of a compatible text: *first, and how many follow it. */
size_t mos_kc_build_drivers(const struct mos_kc_build *b, const char *compatible,
                            const struct mos_kc_source_driver **first);
/* The symbols that must be on for an object to be built, of several rules by the one that does most
 * with the values there are (value NULL: the first); pushes (const char *) what is not always
 * on: first *own of it and of what it is linked into, of which the least one counts, then those of
 * the folders above, which only leave it out.  module: the object that becomes the module, or part
 * of the kernel.  false: no build file names it. */
bool mos_kc_build_symbols(const struct mos_kc_build *b, struct mos_arena *arena, const char *object,
                          enum mos_tri (*value)(void *self, const char *symbol), void *self,
                          struct mos_vec *out, size_t *own, const char **module);
/* What an object becomes where symbols have the values that `value` says: part of the kernel (y),
 * of a module (m), or nothing (n). */
enum mos_tri mos_kc_build_value(const struct mos_kc_build *b, struct mos_arena *arena,
                                const char *object,
                                enum mos_tri (*value)(void *self, const char *symbol), void *self,
                                enum mos_kc_certainty *certainty);
/* Pushes (const char *) the objects that a symbol builds by itself. */
void mos_kc_build_objects(const struct mos_kc_build *b, const char *symbol, struct mos_vec *out);

#endif
