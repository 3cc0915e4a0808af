/* The plan: everything about one board that can be known before a byte is written.  Steps in their
 * fixed order: pieces, layout, configuration, trees, environments, boot, volumes.  Rules read it;
 * the build carries it out. */
#ifndef MOS_PLAN_PLAN_H
#define MOS_PLAN_PLAN_H

#include "boot/dialect.h"
#include "boot/variables.h"
#include "content/content.h"
#include "disk/table.h"
#include "fs/fs.h"
#include "kconfig/lack.h"
#include "linux/module-index.h"
#include "model/facts.h"
#include "model/model.h"
#include "tree/tree.h"

/* A piece as it was found. */
struct mos_piece_plan {
    const struct mos_piece *def;
    const char *path;             /* of the host file (the outer archive for a member) */
    const char *member;           /* path inside that archive, or NULL */
    struct mos_piece_plan *outer; /* the archive it lies in, or NULL */
    const char *file;             /* the same as the user knows it: below the workspace */
    const struct mos_pin *pin;    /* what mosaicum.pins says about that file, or NULL */
    const char *source;   /* SHA-256 in hex of what it is derived from; NULL: none, or not there */
    bool unmade;          /* a command will make it, in a build */
    const char *made_log; /* a command made it just now: what it said */
    bool found;           /* it is there and may be used: ask mos_plan_is_there */
    bool damaged;         /* an archive that cannot be read: that is a finding */
    uint64_t size;        /* of what it holds */
    uint64_t file_size;   /* … before that was changed here; 0: it is what the file holds */
    bool made;            /* by Mosaicum, from the definition: ramdisk, pack */
    const uint8_t *bytes; /* what it holds, where that is not the file's own content; or NULL */
    bool hashed;
    uint8_t sha256[MOS_SHA256_SIZE];
    uint8_t head[MOS_KERNEL_HEAD];
    size_t head_length;
    bool member_of;          /* other pieces lie in it */
    bool unpacked;           /* a fill unpacks it */
    bool settled;            /* an archive of which others have what they need */
    struct mos_index *index; /* of an archive; NULL: not read yet */
};

/* One span of a medium. */
struct mos_region_plan {
    const struct mos_region *def;
    const char *name;
    unsigned copy;          /* 0, or the number of a first stage's copy */
    bool placed;            /* start and length are known */
    bool chosen;            /* the start is ours, not the user's */
    bool from_rom;          /* the start is the ROM's */
    uint64_t start, length; /* bytes */
    uint64_t content;       /* bytes of a raw region that are written … */
    uint64_t content_at;    /* … this far behind its start: 0, or it ends where the region does */
    struct mos_place place; /* of the value that set the start, or of the name */
    unsigned number;        /* in the table; 0: in none */
    bool logical;           /* behind a table of its own, which lies at table_at */
    uint64_t table_at;
    uint64_t attributes;
    uint8_t id[16], type[16];
    char id_text[40]; /* what the kernel calls it; "": it is no partition */
    const char *label;
    bool bootable;
    struct mos_piece_plan *piece; /* raw content; of a tree, one of its own that is in no list */
    const struct mos_environment_plan *environment;
    const struct mos_fs_driver *fs;
    bool strange_fs; /* a file system is stated that nobody knows: a finding has said so */
    struct mos_volume_wish wish;
    struct mos_volume_result result;
    struct mos_volume_base *volume; /* its inventory, once counted or written */
    struct mos_map texts;           /* path -> struct mos_text_file *: small files below etc/ */
    struct mos_vec fill_sums;       /* of struct mos_fill_sum: what each fill brought */
    /* A hash of everything that the bytes of the volume hang on; not of volumes with boot files or
     * pieces, whose bytes nobody reads to count them. */
    bool has_key;
    uint8_t key[MOS_SHA256_SIZE];
    bool counted, written;
};

/* What a fill brought, where that is no archive. */
struct mos_fill_sum {
    bool known;
    uint8_t sha256[MOS_SHA256_SIZE];
};

struct mos_medium_plan {
    const struct mos_layout *def;
    const struct mos_medium *medium;
    const char *name;
    const struct mos_area *area;                    /* of the medium; NULL: its main part */
    uint64_t size, usable_start, usable_end, align; /* bytes */
    uint32_t sector;
    const struct mos_table_driver *table; /* NULL: no table */
    uint32_t entries;
    uint64_t entries_at; /* of the table, bytes; 0: the usual place */
    uint8_t id[16];
    struct mos_table_span spans[8];
    size_t span_count;
    struct mos_vec regions; /* of struct mos_region_plan *, in order of the definition */
    struct mos_map frozen;  /* name -> struct mos_ledger_region_last *, of a release */
    bool has_frozen;
    bool overflows;  /* what we placed does not fit: one finding, rule sum-too-big */
    uint64_t needed; /* bytes that would be enough */
};

struct mos_environment_plan {
    const struct mos_environment *def;
    struct mos_map variables; /* name -> struct mos_loader_variable * */
    uint64_t needed, size;
    bool flag_byte;
};

struct mos_blob_plan {
    const struct mos_blob *def;
    struct mos_dt *tree; /* NULL: it has findings */
    struct mos_buf blob;
    const char *own_arguments; /* that the source had, where an entry's are in it now; or NULL */
};

/* An overlay that the loader applies. */
struct mos_overlay_plan {
    const struct mos_overlay *def;
    struct mos_buf blob;
};

struct mos_entry_plan {
    const struct mos_boot_entry *def;
    struct mos_piece_plan *kernel, *ramdisk;
    struct mos_blob_plan *tree;
    struct mos_kernel_header header;
    bool kernel_known;                  /* the header could be read */
    bool settled;                       /* addresses are known */
    const struct mos_region_plan *root; /* what root= names, when it is a region */
    struct mos_boot_step step;
};

/* A line of a text that a firmware reads. */
struct mos_settings_line {
    const char *key, *value;
    bool holds; /* for this board */
    struct mos_place place;
};

/* A text of the definition with what its references stand for. */
struct mos_settings_plan {
    const struct mos_region_plan *region;
    const struct mos_fill *fill;
    const char *path; /* in the volume */
    struct mos_buf text;
    struct mos_vec lines; /* of struct mos_settings_line, in order */
    bool broken;          /* a reference has its finding */
    bool takes_arguments; /* it has <arguments> */
};

/* A small file of a volume. */
struct mos_text_file {
    const char *path, *text; /* text NULL: only its hash is known */
    size_t length;
    bool hashed;
    uint8_t sha256[MOS_SHA256_SIZE];
    unsigned fill; /* which brought it */
};

/* A file that is replaced on purpose, with the hash of what it expects there. */
struct mos_replacement {
    const struct mos_region_plan *region;
    const struct mos_fill *fill;
    const char *path;
    bool met;   /* something is there */
    bool known; /* and its hash is known */
    uint8_t sha256[MOS_SHA256_SIZE];
};

/* What a budget counts. */
struct mos_budget_part {
    const char *name;
    uint64_t bytes;
    const struct mos_piece_plan *piece; /* or */
    const struct mos_region_plan *region;
    struct mos_place place;
};
struct mos_budget_plan {
    const struct mos_budget *def;
    bool known; /* everything that it counts is there */
    uint64_t used, limit;
    uint64_t before;      /* used in the last build; 0: not known */
    struct mos_vec parts; /* of struct mos_budget_part, largest first */
};

/* A configuration worked out over its sources. */
struct mos_settled {
    const char *source;              /* their folder; NULL: none is named, or there */
    struct mos_kc_config *config;    /* NULL: what is asked for is only merged */
    struct mos_kc_requests requests; /* all that is asked for */
    bool whole;                      /* every file of them could be read, and none disagree … */
    size_t from, to;                 /* … else these of the findings say why not */
};

struct mos_plan {
    struct mos_plan *self; /* for those who may not change it, but have more of its content read */
    struct mos_ctx *ctx;
    const struct mos_board *board;
    struct mos_vec pieces, media, environments, blobs, entries; /* of pointers to the above */
    struct mos_vec budgets;                                     /* of struct mos_budget_plan * */
    struct mos_vec replacements;                                /* of struct mos_replacement */
    struct mos_vec indexes;                                     /* of struct mos_module_folder * */
    struct mos_map loader_config; /* how the loader was built: symbol -> struct mos_setting * */
    struct mos_map config;        /* symbol -> struct mos_setting * */
    bool has_config;
    struct mos_settled kernel_settled, loader_settled;

    struct mos_map defaults; /* the loader's compiled-in variables */
    bool has_defaults;
    const struct mos_dialect *dialect; /* of the loader; NULL: not stated, or not known */
    const struct mos_dialect *starter; /* what starts the kernel: that, or a stage's; or NULL */
    bool lacks_way; /* … and it cannot boot in the way that is asked for: it was said */
    struct mos_ram_map ram;
    bool has_ram;
    const struct mos_region_plan *boot_region; /* the volume with `made: boot`; NULL: none … */
    bool boots_raw; /* … and all that the entries need lies in regions of boot_medium, a flash */
    const struct mos_medium_plan *boot_medium;
    struct mos_vec settings; /* of struct mos_settings_plan * */
    const char *boot_prefix; /* folder of the boot files in it, "" for its root */
    struct mos_boot_script script;
    struct mos_buf script_text, script_file; /* the script, and the file that the loader reads */
    struct mos_buf menu_text, parcel;
    const char *parcel_file;
    struct mos_cpp_store *sources;     /* of trees: each file is read once; NULL: none was yet */
    struct mos_vec boot_overlays;      /* of struct mos_overlay_plan * */
    struct mos_map files;              /* key -> struct mos_kept_bytes *: see contents.c */
    const struct mos_drivers *drivers; /* drivers.h: gathered when they are asked for; or NULL */
    struct mos_vec tree_choices;       /* of struct mos_blob_plan *: those of boot.trees */
};

/* Makes the plan as far as it goes without reading the content of volumes.  NULL after an error. */
struct mos_plan *mos_plan_make(struct mos_ctx *ctx, const struct mos_board *board);

/* What the kernel's sources call the processor, as in ARCH=; NULL: it is not stated. */
const char *mos_plan_kernel_arch(const struct mos_plan *plan);
/* After the volumes: what each budget uses. */
void mos_plan_budgets(struct mos_plan *plan);
/* The text of a small file of a volume as it will be in the end; NULL: it is not there. */
const struct mos_text_file *mos_plan_text(const struct mos_region_plan *region, const char *path);
/* The region whose volume becomes the root of the default entry; NULL: not known. */
const struct mos_region_plan *mos_plan_root(const struct mos_plan *plan);
/* The name of the n-th fill of a region's volume. */
const struct mos_fill *mos_plan_fill_at(const struct mos_region_plan *region, unsigned index);
/* Are a piece's bytes there?  Everybody who uses one asks this; NULL: there is no such piece. */
static inline bool mos_plan_is_there(const struct mos_piece_plan *piece) {
    return piece && piece->found && !piece->unmade && !piece->damaged;
}
/* flash.c: media without a partition table */
bool mos_plan_is_flash(const struct mos_medium_plan *medium); /* NOR or NAND */
/* Regions that have a place, copies too, in its order: of const struct mos_region_plan *. */
struct mos_vec mos_plan_by_place(const struct mos_plan *plan, const struct mos_medium_plan *medium);
/* What programming one region takes, in bytes: whole erase blocks, whole pages. */
struct mos_flash_range {
    uint64_t erase_from, erase_length, blocks, write_from, write_length, content;
};
struct mos_flash_range mos_plan_flash_range(const struct mos_medium_plan *medium,
                                            const struct mos_region_plan *region);
/* The partition string of the kernel's command line ("4000000.flash:64k(first),…"); NULL: the
 * medium states no flash-id. */
const char *mos_plan_flash_string(const struct mos_plan *plan,
                                  const struct mos_medium_plan *medium);
/* The node with compatible "fixed-partitions" below a flash's own; NULL: there is none. */
struct mos_dt_node *mos_plan_flash_node(const struct mos_dt *dt,
                                        const struct mos_medium_plan *medium);
/* Is this what the loader is given (boot.via)?  There is a boot. */
/* A variable of the loader, stored or compiled in; NULL: not known. */
const struct mos_loader_variable *mos_plan_loader_variable(const struct mos_plan *plan,
                                                           const char *name);
/* What the loader calls a medium, "mmc 0": as it is stated, or as it calls the first of that kind.
 * The plan must have a dialect. */
const char *mos_plan_in_loader(const struct mos_plan *plan, const struct mos_medium *medium);
/* A value of the loader's own configuration, without quotes; NULL: not known.  symbol NULL: the
 * dialect has none for that. */
const struct mos_setting *mos_plan_loader_symbol(const struct mos_plan *plan, const char *symbol);

/* What a definition's piece became; NULL: it is none of this plan's. */
struct mos_piece_plan *mos_plan_piece(const struct mos_plan *plan, const struct mos_piece *def);
/* A region by its name, copies left out; NULL: there is none. */
const struct mos_region_plan *mos_plan_region(const struct mos_plan *plan, const char *name);
/* Are there slots of that name, NAME-a and NAME-b? */
bool mos_plan_has_slots(const struct mos_plan *plan, const char *name);
/* A folder of kernel modules, as the files say by which they are found (plan->indexes). */
struct mos_module_folder {
    const struct mos_region_plan *region;
    const struct mos_fill *fill;
    const char *path; /* "lib/modules/6.1.0" */
    size_t modules;
    struct mos_vec files;          /* of struct mos_index_file */
    struct mos_index_lack lacking; /* what they need and is not there */
};

/* settings.c: the text of a fill; NULL: it is none. */
const struct mos_settings_plan *mos_plan_settings_of(const struct mos_plan *plan,
                                                     const struct mos_fill *fill);
/* The single values of one value of such a text, at most `most`; they live in the plan's arena. */
size_t mos_plan_settings_values(const struct mos_plan *plan, const struct mos_settings_plan *s,
                                const char *value, const char **out, size_t most);

/* trees.c: the tree of a blob, and what the loader makes of it with each combination of overlays
 * that it can apply; a finding that came up before is not kept again.  The trees last as long as
 * the call. */
void mos_plan_each_tree(struct mos_plan *plan, const struct mos_blob_plan *b,
                        void (*each)(void *self, struct mos_dt *dt), void *self);

#endif
