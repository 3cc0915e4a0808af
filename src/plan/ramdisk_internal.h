/* The inside of making a ramdisk: its rows, the modules it takes, its first program. */
#ifndef MOS_PLAN_RAMDISK_INTERNAL_H
#define MOS_PLAN_RAMDISK_INTERNAL_H

#include "linux/module.h"
#include "plan/plan.h"

/* One thing that goes in. */
struct ramdisk_item {
    const char *to; /* path in the ramdisk, in normal form */
    uint16_t mode;
    uint32_t uid, gid;
    enum mos_entry_type type;
    const char *target;    /* links */
    uint32_t major, minor; /* devices */
    const uint8_t *bytes;  /* files */
    size_t length;
    const struct mos_ramdisk_file *def; /* NULL: it is made here */
    const struct mos_piece_plan *in;    /* the archive that has its bytes */
    const char *path;                   /* there */
};

struct ramdisk_module {
    const char *name, *path; /* in the archive */
    struct mos_module_info info;
    const uint8_t *bytes; /* expanded; NULL: not read yet */
    size_t length;
    bool wanted, ordered, on_way;
    bool searched;          /* its aliases are known: `answers` holds those that somebody wants */
    struct mos_vec answers; /* of const char * */
};

struct ramdisk {
    struct mos_plan *plan;
    struct mos_piece_plan *piece;
    const struct mos_ramdisk *def;
    struct mos_vec items;   /* of struct ramdisk_item */
    struct mos_vec modules; /* of struct ramdisk_module *: all of the archive */
    struct mos_vec order;   /* of struct ramdisk_module *: as they are to be loaded */
    struct mos_vec sought;  /* of const char *: names that no module has, perhaps an alias */
    bool searches;          /* all modules are read now, for their aliases */
    const char *builtin;    /* the archive's list of what the kernel has inside; NULL: none */
    bool wrong;             /* there are findings */
};

/* A finding about it; it is not made then. */
struct mos_finding *ramdisk_complain(struct ramdisk *m, enum mos_rule_id rule,
                                     struct mos_place place, const char *text);
/* A new row; `to` is put into normal form. */
struct ramdisk_item *ramdisk_add(struct ramdisk *m, const char *to, enum mos_entry_type type,
                                 unsigned mode);
/* Is this a path below its root?  false after a finding. */
bool ramdisk_stays_inside(struct ramdisk *m, const struct mos_value *path);

/* ramdisk-modules.c */
/* Reads an archive for rows whose bytes lie in it, and for modules.  false with ctx->error. */
bool ramdisk_gather(struct ramdisk *m, struct mos_piece_plan *archive);
/* The modules that were asked for, and what they need; then their order is known. */
bool ramdisk_take_modules(struct ramdisk *m, struct mos_piece_plan *archive);
void ramdisk_add_modules(struct ramdisk *m);
/* The file that lists them in the order of loading. */
const char *ramdisk_order_file(const struct mos_ramdisk *def);

/* ramdisk-tree.c: a folder, or a whole archive, as far as its filter lets it pass; what has a row
 * already stays.  false with ctx->error. */
bool ramdisk_take_folder(struct ramdisk *m);
bool ramdisk_take_archive(struct ramdisk *m, struct mos_piece_plan *archive);

/* ramdisk-init.c */
void ramdisk_add_folders(struct ramdisk *m); /* before the files: each is made once */
void ramdisk_add_init(struct ramdisk *m);
/* The script's own needs: what it calls must be there. */
void ramdisk_check_programs(struct ramdisk *m);

#endif
