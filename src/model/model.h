/* The typed form of a definition.  Every scalar is a `struct mos_value *` with its trail: NULL
 * when it is not stated, `broken` when it is wrong (there is a finding already: stay silent).
 * Structures are filled by the walker in schema.c from the tables in tables.c. */
#ifndef MOS_MODEL_MODEL_H
#define MOS_MODEL_MODEL_H

#include "model/yaml.h"

struct mos_value {
    struct mos_place place;
    const char *text;
    uint64_t number; /* integers, sizes in bytes, addresses, percent, index of a choice */
    bool truth;
    bool percent; /* a share instead of a size */
    bool sectors; /* a size counted in the medium's sectors */
    bool rest;    /* what is left of the medium */
    bool broken;
    const void *target;               /* references: the record that is meant */
    const struct mos_value *replaced; /* what this value took the place of, or NULL */
};

/* What every map in a definition carries. */
struct mos_record {
    const char *name;
    struct mos_place key_place, place;
    const struct mos_node *node;
    bool broken; /* something inside is wrong */
};

struct mos_named {
    size_t count;
    void **items;                /* pointers to structures that begin with a mos_record */
    const struct mos_node *node; /* NULL: not stated */
};

struct mos_list {
    size_t count;
    struct mos_value **items;
    const struct mos_node *node;
};

struct mos_ram {
    struct mos_record r;
    struct mos_value *start;
    struct mos_list sizes;
};
struct mos_held {
    struct mos_record r;
    struct mos_value *top, *start, *size;
};
struct mos_console {
    struct mos_record r;
    struct mos_value *port, *node, *baud;
};
struct mos_medium_size {
    struct mos_record r;
    struct mos_value *at_least;
};
struct mos_medium {
    struct mos_record r;
    struct mos_value *kind, *erase, *sector, *loader, *kernel, *node;
    struct mos_medium_size *size;
};
struct mos_hardware {
    struct mos_record r;
    struct mos_value *cpu, *cores, *compatible;
    struct mos_named ram, held, media;
    struct mos_console *console;
};
struct mos_first_place {
    struct mos_record r; /* named after a medium */
    struct mos_value *at, *limit;
    struct mos_list copies;
};
struct mos_rom {
    struct mos_record r;
    struct mos_list order;
    struct mos_named first_stage;
};
struct mos_stage {
    struct mos_record r;
    struct mos_value *piece, *by, *from, *limit;
};
struct mos_piece {
    struct mos_record r;
    struct mos_value *file, *in, *path, *sha256, *license, *about;
};
struct mos_fragment {
    struct mos_record r;
    struct mos_value *file, *overrides;
};
struct mos_kernel_config {
    struct mos_record r;
    struct mos_value *start;
    struct mos_named fragments;
};
struct mos_kernel {
    struct mos_record r;
    struct mos_value *image, *release;
    struct mos_kernel_config *config;
};
struct mos_blob {
    struct mos_record r;
    struct mos_value *base, *piece;
};
struct mos_overlay {
    struct mos_record r;
    struct mos_value *file;
};
struct mos_trees {
    struct mos_record r;
    struct mos_list includes;
    struct mos_named blobs, overlays;
};
struct mos_facts {
    struct mos_record r;
    struct mos_value *defaults;
};
struct mos_variable {
    struct mos_record r;
    struct mos_value *value;
};
struct mos_environment {
    struct mos_record r;
    struct mos_value *base, *size, *flag_byte;
    struct mos_named values;
};
struct mos_loader {
    struct mos_record r;
    struct mos_value *dialect, *version;
    struct mos_facts *facts;
    struct mos_named environments;
};
struct mos_argument {
    struct mos_record r;
    struct mos_list values;
};
struct mos_entry_addresses {
    struct mos_record r;
    struct mos_value *kernel, *tree, *ramdisk;
};
struct mos_boot_entry {
    struct mos_record r;
    struct mos_value *kernel, *tree, *ramdisk;
    struct mos_entry_addresses *addresses;
    struct mos_list flags;
    struct mos_named arguments;
};
struct mos_boot {
    struct mos_record r;
    struct mos_value *via;
    struct mos_named entries;
};
struct mos_fill {
    struct mos_record r;
    struct mos_value *archive, *folder, *piece, *made, *to, *replaces;
    struct mos_list only, except;
};
struct mos_volume {
    struct mos_record r;
    struct mos_value *kind, *label, *spare;
    struct mos_named fills;
};
struct mos_region {
    struct mos_record r;
    struct mos_value *number, *at, *size, *owner, *type, *label, *bootable;
    struct mos_value *stage, *environment, *piece;
    struct mos_volume *volume;
};
struct mos_table {
    struct mos_record r;
    struct mos_value *kind, *entries;
};
struct mos_layout {
    struct mos_record r; /* named after a medium */
    struct mos_table *table;
    struct mos_named regions;
};
struct mos_board {
    struct mos_record r;
    struct mos_value *mosaicum, *board, *about;
    struct mos_hardware *hardware;
    struct mos_rom *rom;
    struct mos_kernel *kernel;
    struct mos_trees *tree;
    struct mos_loader *loader;
    struct mos_boot *boot;
    struct mos_named stages, pieces, layout;
    const char *workspace_name; /* seeds derived identities */
    const char *root;           /* folder of the workspace */
    int64_t date;               /* seconds since 1970 for everything that needs a date */
};
struct mos_workspace {
    struct mos_record r;
    struct mos_value *mosaicum, *name, *date;
    const char *root;           /* folder, as given */
    struct mos_vec board_names; /* of const char *, sorted */
};

/* Reads mosaicum.yaml in `root` and lists boards/.  NULL with an error or a finding. */
struct mos_workspace *mos_workspace_load(struct mos_ctx *ctx, const char *root);
/* Reads and resolves one board.  NULL only when nothing of it could be read; otherwise wrong parts
 * are marked broken and have their findings. */
struct mos_board *mos_board_load(struct mos_ctx *ctx, const struct mos_workspace *workspace,
                                 const char *name);

/* A value that may be used: stated and not broken. */
static inline bool mos_has(const struct mos_value *v) {
    return v && !v->broken;
}
static inline const char *mos_text_or(const struct mos_value *v, const char *otherwise) {
    return mos_has(v) ? v->text : otherwise;
}

/* The item of that name, or NULL. */
void *mos_named_get(const struct mos_named *named, const char *name);
#endif
