/* The inside of this loader in a rehearsal: its own state, its shell and its commands. */
#ifndef MOS_LOADERS_U_BOOT_INSIDE_H
#define MOS_LOADERS_U_BOOT_INSIDE_H

#include "boot/dialect.h"
#include "loaders/u-boot/shell.h"
#include "rehearse/sim.h"

/* A kernel as it lies in a container. */
struct ub_payload {
    const uint8_t *data;
    size_t length;
    uint64_t from, to; /* where it lies in RAM, and where it is to run */
    const char *compression;
    uint64_t in_parcel; /* where that lies; 0: it is none */
};

/* What a boot command settled besides what the kernel gets to see (s->boot). */
struct ub_boot {
    const char *command;
    struct ub_payload payload;       /* of bootm, until it is in its place */
    unsigned step;                   /* of bootm by steps: the last that was done */
    struct mos_ram_span placed_tree; /* stays taken when the tree is placed once more */
};

struct ub_own {
    /* Carries out a command: ub_command, for those whom it calls itself. */
    int (*command)(struct sim *s, int argc, const char *const *argv);
    struct mos_map locals; /* the shell's own variables: name -> const char *value */
    int code;              /* of the last command: $? */
    uint64_t tree_at;      /* working tree of the fdt command; 0: none */
    const char *current;   /* medium of `mmc dev` and its kin */
    struct ub_boot boot;
};

/* The loader's own state; there from the first wake on. */
static inline struct ub_own *own(const struct sim *s) {
    return s->own;
}

/* ---- run.c: the shell ---- */
int ub_run_text(struct sim *s, const char *text, size_t length, unsigned flags);
int ub_run_variable(struct sim *s, const char *name);
/* The commands of a variable, or (NULL) of a script. */
int ub_run_nested(struct sim *s, const char *variable, const char *text, unsigned flags);

/* ---- commands.c ---- */
/* One row a command; a table of them ends with a NULL name. */
struct ub_command {
    const char *name;
    int (*run)(struct sim *s, int argc, const char *const *argv);
    unsigned most; /* arguments with the name; 0: any number */
};
/* Runs a command line; -1: wrong use. */
int ub_command(struct sim *s, int argc, const char *const *argv);
int ub_usage(struct sim *s, const char *name);
extern const struct ub_command ub_commands_plain[], ub_commands_environment[],
    ub_commands_storage[], ub_commands_flash[], ub_commands_memory[], ub_commands_tree[], ub_commands_boot[];

/* ---- command-storage.c ---- */
/* Bytes of a device into RAM; returns a command's code. */
int ub_read_bytes(struct sim *s, struct sim_disk *d, uint64_t to, uint64_t from, uint64_t length);
/* The number of the device of this kind that was chosen last, else "0". */
const char *ub_current_number(struct sim *s, const char *kind);

/* ---- stored.c ---- */
void ub_environment_start(struct sim *s);
int ub_environment_save(struct sim *s);

/* ---- boot.c, menu-run.c ---- */
/* Reads a menu file to an address and runs it. */
int ub_menu(struct sim *s, const char *kind, const char *place, uint64_t at, const char *file);
int ub_source(struct sim *s, uint64_t at, const char *part);

#endif
