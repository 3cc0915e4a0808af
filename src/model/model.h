/* The typed form of a definition.  Every scalar is a `struct mos_value *` with its trail: NULL
 * when it is not stated, `broken` when it is wrong (there is a finding already: stay silent).
 * Structures are filled by the walker in schema.c from the tables in tables.c. */
#ifndef MOS_MODEL_MODEL_H
#define MOS_MODEL_MODEL_H

#include "base/map.h"
#include "model/yaml.h"

#include <string.h>

struct mos_value {
    struct mos_place place;
    const char *text;
    uint64_t number; /* integers, sizes in bytes, addresses, percent, index of a choice */
    bool truth;
    bool percent; /* a share instead of a size */
    bool sectors; /* a size counted in the medium's sectors */
    bool rest;    /* what is left of the medium */
    bool broken;
    const void *target;            /* references: the record that is meant */
    const struct mos_node *stated; /* with what it replaced; NULL: made by hand */
};

/* A value that may be used: stated and not broken. */
static inline bool mos_has(const struct mos_value *v) {
    return v && !v->broken;
}

/* It is stated, and says yes. */
static inline bool mos_true(const struct mos_value *v) {
    return mos_has(v) && v->truth;
}

#include "model/choices.h"

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
    struct mos_value *port, *node, *baud, *loader_baud, *frame, *driver;
};
struct mos_medium_size {
    struct mos_record r;
    struct mos_value *at_least, *at_most;
};
struct mos_area {
    struct mos_record r; /* of an eMMC */
    struct mos_value *size;
};
struct mos_emmc {
    struct mos_record r; /* what is set once, and stays */
    struct mos_value *boots_from, *acknowledge, *bus_width, *reset_pin;
};
struct mos_medium {
    struct mos_record r;
    struct mos_value *kind, *erase, *page, *sector, *loader, *kernel, *node, *flash_id, *correction;
    struct mos_emmc *settings;
    struct mos_medium_size *size;
    struct mos_named areas;
};
struct mos_unfitted {
    struct mos_record r;
    struct mos_value *node;
};
struct mos_emulator {
    struct mos_record r;
    struct mos_value *loader, *disk;
};
struct mos_hardware {
    struct mos_record r;
    struct mos_emulator *emulator;
    struct mos_value *cpu, *cores, *compatible;
    struct mos_named ram, held, media, unfitted;
    struct mos_console *console;
};
struct mos_first_place {
    struct mos_record r; /* named after a medium */
    struct mos_value *at, *limit, *area, *ends_at_top, *file;
    struct mos_list copies;
};
struct mos_rom {
    struct mos_record r;
    struct mos_list order, tables;
    struct mos_value *boot_mark;
    struct mos_named first_stage;
};
struct mos_stage {
    struct mos_record r;
    struct mos_value *piece, *by, *from, *limit, *format;
    struct mos_list accepts;
};
struct mos_made_by {
    struct mos_record r;
    struct mos_list run, inputs;
    struct mos_value *minutes;
};
/* One row of a ramdisk's list. */
struct mos_ramdisk_file {
    struct mos_record r;
    struct mos_value *to, *file, *in, *path, *text, *link, *device, *mode;
};
struct mos_ramdisk_modules {
    struct mos_record r;
    struct mos_value *in, *order;
    struct mos_list names;
};
struct mos_ramdisk {
    struct mos_record r;
    struct mos_value *compress, *init, *folder, *archive;
    struct mos_list only, except;
    struct mos_named files;
    struct mos_list folders;
    struct mos_ramdisk_modules *modules;
};
/* Several pieces in one, as a ROM or an early stage wants them. */
struct mos_packed_part {
    struct mos_record r;
    struct mos_value *piece, *at, *load, *entry, *type, *compress;
};
struct mos_packed {
    struct mos_record r;
    struct mos_value *as, *align, *table_at, *starts, *compress, *label;
    struct mos_named parts;
};
struct mos_piece {
    struct mos_record r;
    struct mos_value *file, *in, *path, *sha256, *size, *follow, *release, *cpu, *license, *about,
        *derived_from;
    struct mos_made_by *made_by;
    struct mos_ramdisk *ramdisk;
    struct mos_packed *packed;
};
struct mos_fragment {
    struct mos_record r;
    struct mos_value *file, *contradicts;
};
struct mos_kernel_config {
    struct mos_record r;
    struct mos_value *start;
    struct mos_named fragments;
};
struct mos_kernel {
    struct mos_record r;
    struct mos_value *image, *release, *source, *compiler;
    struct mos_kernel_config *config;
};
struct mos_blob {
    struct mos_record r;
    struct mos_value *base, *piece;
};
struct mos_overlay {
    struct mos_record r;
    struct mos_value *file, *when, *one_of;
};
struct mos_trees {
    struct mos_record r;
    struct mos_list includes;
    struct mos_named blobs, overlays;
};
struct mos_facts {
    struct mos_record r;
    struct mos_value *defaults, *config, *boot_mark, *locked, *watchdog;
    struct mos_list tables;
    struct mos_named symbols; /* of struct mos_argument */
};
struct mos_variable {
    struct mos_record r;
    struct mos_value *value;
};
struct mos_environment {
    struct mos_record r;
    struct mos_value *base, *size, *flag_byte;
    struct mos_named values, per_unit;
};
struct mos_loader {
    struct mos_record r;
    struct mos_value *dialect, *version, *source, *compiler;
    struct mos_kernel_config *config;
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
/* A tree that a variable of the loader chooses. */
struct mos_tree_choice {
    struct mos_record r; /* named after a value of the variable */
    struct mos_value *blob;
};
struct mos_tree_choices {
    struct mos_record r;
    struct mos_value *variable;
    struct mos_named values;
};
struct mos_parcel_def {
    struct mos_record r;
    struct mos_value *hash, *key, *public_key, *key_name, *at, *locks;
    struct mos_list sign_with;
};
/* How the same entries are started from a server. */
struct mos_network {
    struct mos_record r;
    struct mos_value *automatic, *address, *netmask, *gateway, *server, *folder;
};
struct mos_boot {
    struct mos_record r;
    struct mos_value *via, *tries, *otherwise, *timeout, *until;
    struct mos_tree_choices *trees;
    struct mos_parcel_def *parcel;
    struct mos_network *network;
    struct mos_named entries;
};
/* How the lines of a text that a firmware reads are to be understood. */
struct mos_settings {
    struct mos_record r;
    struct mos_value *form, *comment, *separator;
    struct mos_list files, overlays, console, arguments, holds;
};
struct mos_fill {
    struct mos_record r;
    struct mos_value *archive, *folder, *piece, *made, *environment, *text, *to, *replaces,
        *expects;
    struct mos_list only, except;
    struct mos_settings *settings;
};
struct mos_volume {
    struct mos_record r;
    struct mos_value *kind, *label, *spare, *id, *unit, *reserved, *inodes, *journal, *nearly_full,
        *compress;
    struct mos_named fills;
};
struct mos_region {
    struct mos_record r;
    struct mos_value *number, *at, *size, *owner, *type, *label, *bootable, *area, *id, *spare,
        *attributes, *grows;
    struct mos_value *stage, *environment, *piece, *tree;
    struct mos_list slots; /* taken apart by resolve.c: one region each */
    struct mos_volume *volume;
};
struct mos_table {
    struct mos_record r;
    struct mos_value *kind, *entries, *entries_at, *id;
};
struct mos_layout {
    struct mos_record r; /* named after a medium */
    struct mos_value *gap_note, *frozen;
    struct mos_table *table;
    struct mos_named regions;
};
struct mos_budget {
    struct mos_record r;
    struct mos_list of; /* pieces and regions */
    struct mos_value *limit, *warn, *grow_note;
};
/* Something that is not known yet, as `new` leaves it. */
struct mos_question {
    struct mos_record r;
    struct mos_value *ask, *answer;
};
struct mos_output {
    struct mos_record r; /* named after a medium */
    struct mos_value *compress, *name;
};
struct mos_mount {
    struct mos_record r; /* named after a region, or free for other file systems */
    struct mos_value *at, *kind, *what;
    struct mos_list options;
};
struct mos_user {
    struct mos_record r;
    struct mos_value *id, *group, *home, *shell, *password_hash, *password_file, *locked, *until;
    struct mos_list keys;
};
/* What only one board has is made when it starts for the first time. */
struct mos_first_start {
    struct mos_record r;
    struct mos_value *by, *host_keys, *machine_id, *ends;
};
struct mos_wireless {
    struct mos_record r;
    struct mos_value *network, *secret_file, *country;
};
struct mos_network_port {
    struct mos_record r;
    struct mos_value *address, *gateway;
    struct mos_list name_servers;
    struct mos_wireless *wireless;
};
struct mos_system_network {
    struct mos_record r;
    struct mos_value *form, *by;
    struct mos_named ports;
};
struct mos_log_in {
    struct mos_record r;
    struct mos_value *by, *terminal;
};
struct mos_system {
    struct mos_record r;
    struct mos_value *host_name, *loader_access, *confirm, *time_zone, *other_slot;
    struct mos_named mounts, users;
    struct mos_log_in *log_in;
    struct mos_first_start *first_start;
    struct mos_system_network *network;
};
/* Programming a board's soldered storage: a way, and one of its steps. */
struct mos_window {
    struct mos_record r;
    struct mos_value *start, *size;
};
struct mos_usb_ids {
    struct mos_record r;
    struct mos_value *vendor, *product;
};
struct mos_program_step {
    struct mos_record r;
    struct mos_value *person, *fuse, *prompt, *write, *by, *area, *place, *sees, *within, *back;
    struct mos_list command, type, names, regions;
    struct mos_usb_ids *usb;
};
struct mos_programming {
    struct mos_record r;
    struct mos_value *about, *prompt;
    struct mos_window *window;
    struct mos_named steps; /* of struct mos_program_step * */
};
/* What comes on the serial line when all is well. */
struct mos_landmark_def {
    struct mos_record r;
    struct mos_value *text, *within, *first_start, *behind, *may;
};
/* What is asked of a board that runs, and what must come back. */
enum { MOS_ACCEPTANCE_LINE = 900 }; /* bytes of a command */
struct mos_acceptance_check {
    struct mos_record r;
    struct mos_value *type, *sees, *status, *within;
};
struct mos_acceptance {
    struct mos_record r;
    struct mos_value *user, *password_file, *within;
    struct mos_list services, devices, addresses, replies, modules, without;
    struct mos_named checks; /* of struct mos_acceptance_check * */
};
/* A file that a running board may fetch from whoever serves it. */
struct mos_serve_def {
    struct mos_record r;
    struct mos_value *file, *as;
};
struct mos_waiver {
    struct mos_record r;
    struct mos_value *rule, *place, *reason, *until;
};
struct mos_needs {
    struct mos_record r;
    struct mos_named symbols; /* of struct mos_argument: the values that will do */
    struct mos_list nodes, files, arguments;
};
struct mos_feature_use {
    struct mos_record r;
};

/* What boards, traits, features and variants may all state. */
#define MOS_CONTENT_MEMBERS                                                                        \
    struct mos_hardware *hardware;                                                                 \
    struct mos_rom *rom;                                                                           \
    struct mos_kernel *kernel;                                                                     \
    struct mos_trees *tree;                                                                        \
    struct mos_loader *loader;                                                                     \
    struct mos_boot *boot;                                                                         \
    struct mos_system *system;                                                                     \
    struct mos_acceptance *acceptance;                                                             \
    struct mos_value *release;                                                                     \
    struct mos_named stages, pieces, layout, outputs, programming, landmarks, serve, questions,    \
        budgets, waivers, features

struct mos_variant {
    struct mos_record r;
    struct mos_value *axis, *purpose, *about, *status;
    struct mos_list traits;
    MOS_CONTENT_MEMBERS;
};
struct mos_trait {
    struct mos_record r;
    struct mos_value *mosaicum, *trait, *about, *outside;
    struct mos_list traits;
    struct mos_named variants;
    MOS_CONTENT_MEMBERS;
};
struct mos_feature {
    struct mos_record r;
    struct mos_value *mosaicum, *feature, *about, *outside;
    struct mos_list replaces;
    struct mos_needs *needs;
    MOS_CONTENT_MEMBERS;
};
struct mos_waiver_file {
    struct mos_record r;
    struct mos_value *mosaicum;
    struct mos_named waivers;
};
struct mos_pin {
    struct mos_record r; /* named after a file */
    struct mos_value *sha256, *size, *source;
};
/* What stands on one's own table: units of boards, and how they are reached. */
struct mos_bench_power {
    struct mos_record r;
    struct mos_list off, on, cycle; /* a command each */
    struct mos_value *pause;
};
struct mos_bench_unit {
    struct mos_record r;
    struct mos_value *board, *serial, *network, *ethernet, *wiring, *dtr, *rts;
    struct mos_bench_power *power;
};
struct mos_bench {
    struct mos_record r;
    struct mos_value *mosaicum;
    struct mos_named units;
};
struct mos_pins {
    struct mos_record r;
    struct mos_value *mosaicum;
    struct mos_named pins;
};

struct mos_board {
    struct mos_record r; /* its name, without variants */
    struct mos_value *mosaicum, *board, *about, *purpose;
    struct mos_list traits;
    struct mos_named variants;
    MOS_CONTENT_MEMBERS;
    const char *selector;         /* its name with the chosen variants */
    const char *workspace_name;   /* seeds derived identities */
    const char *root;             /* folder of the workspace */
    const struct mos_pins *pins;  /* NULL: the workspace pins nothing */
    struct mos_vec feature_parts; /* of const struct mos_part *: features in use */
    bool field;                   /* it leaves the house */
    int64_t date;                 /* seconds since 1970 for everything that needs a date */
};

/* One file that was read: a board, a trait or a feature.  Immutable once it is loaded. */
struct mos_part {
    const char *name;                /* "curlew", "soc/tern64" */
    const char *kind;                /* "board", "trait", "feature" */
    struct mos_node *node;           /* NULL: it could not be read */
    const struct mos_node *variants; /* boards: with those that its traits bring; may be NULL */
    const struct mos_node *waivers;  /* boards: accepted findings (waivers/NAME.yaml); or NULL */
    struct mos_feature *feature;     /* features: typed */
    struct mos_place place;          /* the name in the file */
    bool outside;
};

struct mos_root_def {
    struct mos_record r;
    struct mos_value *folder;
};
struct mos_workspace {
    struct mos_record r;
    struct mos_value *mosaicum, *name, *date, *combinations;
    struct mos_list usual, outside;
    struct mos_named roots;     /* of struct mos_root_def *: folders elsewhere that may be read */
    const char *root;           /* folder, as given */
    struct mos_vec board_names; /* of const char *, sorted */
    struct mos_map boards, traits, features;   /* name -> struct mos_part *, once loaded */
    struct mos_vec trait_names, feature_names; /* of const char *: all there are; for near misses */
    const struct mos_pins *pins;
};

/* A board with the variants chosen for it. */
struct mos_selection {
    const char *text; /* "curlew+ram-1g+field": variants in the order of the definition */
    const struct mos_part *board;
    struct mos_vec variants; /* of const struct mos_node *: items of part->variants */
};

/* The boards of the workspace at root by their files, sorted, of const char *; none where there is
 * no folder of them. */
void mos_board_names(struct mos_ctx *ctx, const char *root, struct mos_vec *names);
/* Reads mosaicum.yaml in `root` and lists boards/.  NULL with an error or a finding. */
struct mos_workspace *mos_workspace_load(struct mos_ctx *ctx, const char *root);
/* Reads a board's file and every trait and feature that it may need, once.  NULL with an error when
 * there is no such board; a part whose node is NULL after findings. */
const struct mos_part *mos_workspace_board(struct mos_ctx *ctx, struct mos_workspace *w,
                                           const char *name);
/* All selections that fit a selector (with wildcards) into `into` (of struct mos_selection).  With
 * `place` what is wrong with it is a finding there, else an error of wrong usage. */
bool mos_workspace_select(struct mos_ctx *ctx, struct mos_workspace *w, const char *selector,
                          const struct mos_place *place, struct mos_vec *into);
/* Every board with every combination of its variants (at most 64 a board), the plain one first. */
bool mos_workspace_select_all(struct mos_ctx *ctx, struct mos_workspace *w, bool variants,
                              struct mos_vec *into);
/* Resolves a selection.  Never NULL; wrong parts are marked broken and have their findings.
 * Reads of *w only what is loaded: may run in several threads, each with a context of its own. */
struct mos_board *mos_board_resolve(struct mos_ctx *ctx, const struct mos_workspace *w,
                                    const struct mos_selection *selection);

/* The text of a value, or another where it is not (rightly) stated. */
static inline const char *mos_text_or(const struct mos_value *v, const char *otherwise) {
    return mos_has(v) ? v->text : otherwise;
}
/* Does a fill bring what Mosaicum makes? */
static inline bool mos_fill_makes(const struct mos_fill *fill, enum mos_made what) {
    return mos_made_of(fill->made) == what;
}

/* The item of that name, or NULL. */
void *mos_named_get(const struct mos_named *named, const char *name);
#endif
