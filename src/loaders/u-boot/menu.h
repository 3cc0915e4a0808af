/* The boot menu file: LABEL, KERNEL, FDT, APPEND (the loader's doc/README.distro and
 * doc/README.pxe). */
#ifndef MOS_LOADERS_U_BOOT_MENU_H
#define MOS_LOADERS_U_BOOT_MENU_H

#include "base/buf.h"

struct mos_menu_entry {
    const char *name, *title; /* title: what is shown; NULL: the name */
    const char *kernel;       /* "/Image", or "/image.itb#choice" */
    const char *ramdisk, *tree, *tree_folder, *arguments;
    const char *overlays; /* paths with blanks between */
    bool local;           /* LOCALBOOT: what the variable localcmd says is run … */
    bool stays;           /* … or, with a number below 0, nothing is */
};

struct mos_menu {
    const char *title, *usual; /* usual: the label that starts by itself; NULL: the first */
    unsigned timeout;          /* tenths of a second; 0: asks nobody */
    bool prompt;               /* it asks which one; without a timeout it waits for ever */
    struct mos_vec entries;    /* of struct mos_menu_entry, in order */
    bool wrong;                /* a key word lacks its value: the loader takes nothing of it */
    struct mos_buf said;       /* what the loader says while it reads */
};

/* Other files that a menu includes.  read: false when it is not there; what stands in menu->said
 * may be taken out of it before. */
struct mos_menu_files {
    void *self;
    bool (*read)(void *self, struct mos_menu *menu, const char *path, const char **text,
                 size_t *length);
};

/* Key words in any case, # begins a comment.  What is not known is skipped and
 * ends the entry that it stands in, as the loader has it; what is behind a mistake is not read.
 * `files` NULL: there are no others. */
struct mos_menu mos_menu_read(struct mos_arena *arena, const char *text, size_t length,
                              const struct mos_menu_files *files);
void mos_menu_write(const struct mos_menu *menu, const char *heading, struct mos_buf *out);
const struct mos_menu_entry *mos_menu_find(const struct mos_menu *menu, const char *name);

#endif
