/* The shell language of U-Boot: its own documentation, doc/usage/cmdline and doc/develop/distro. */
#include "loaders/u-boot/u-boot.h"

#include "loaders/u-boot/legacy.h"
#include "loaders/u-boot/menu.h"

#include <assert.h>
#include <string.h>

/* Text that the shell takes as one word as it is: in single quotes only backslashes need another
 * one; a single quote ends them and begins them again. */
static void quoted(struct mos_buf *out, const char *text) {
    assert(text);
    mos_buf_char(out, '\'');
    for (; *text; text++) {
        if (*text == '\'')
            mos_buf_text(out, "'\\''");
        else if (*text == '\\')
            mos_buf_text(out, "\\\\");
        else
            mos_buf_char(out, *text);
    }
    mos_buf_char(out, '\'');
}

/* The variables of the loader's own search for bootable volumes tell where we were started from;
 * typed in by hand they are not set. */
static void write_device(const struct mos_boot_script *s, struct mos_buf *out) {
    size_t type = strcspn(s->device, " ");
    const char *number = s->device + type;
    number += strspn(number, " ");
    mos_buf_text(out,
                 "# The device this script was loaded from; started by hand, the board's own.\n");
    mos_buf_printf(out, "if test -z \"${devtype}\"; then setenv devtype %.*s; fi\n", (int)type,
                   s->device);
    mos_buf_printf(out, "if test -z \"${devnum}\"; then setenv devnum %s; fi\n",
                   *number ? number : "0");
    mos_buf_printf(out, "if test -z \"${distro_bootpart}\"; then setenv distro_bootpart %u; fi\n",
                   s->partition);
}

static const char blanks[] = "                ";
#define INDENT(depth) (blanks + sizeof blanks - 1 - 2 * (depth))

/* On a server all files lie in one folder. */
static const char *name_of(const struct mos_boot_script *s, const char *file) {
    const char *slash = s->server_folder ? strrchr(file, '/') : NULL;
    return slash ? slash + 1 : file;
}

static void write_load(const struct mos_boot_script *s, struct mos_buf *out, size_t depth,
                       uint64_t address, const char *file) {
    if (s->server_folder)
        mos_buf_printf(out, "%sif tftpboot 0x%08llx %s/%s; then\n", INDENT(depth),
                       (unsigned long long)address, s->server_folder, name_of(s, file));
    else
        mos_buf_printf(out, "%sif load ${devtype} ${devnum}:${distro_bootpart} 0x%08llx %s; then\n",
                       INDENT(depth), (unsigned long long)address, file);
}

/* "sf", "nand": the command for raw spans of the script's device. */
static int raw_verb(const struct mos_boot_script *s) {
    return (int)strcspn(s->device, " ");
}

static void write_raw_load(const struct mos_boot_script *s, struct mos_buf *out, size_t depth,
                           uint64_t address, const struct mos_raw_span *span) {
    mos_buf_printf(out, "%sif %.*s read 0x%08llx 0x%llx 0x%llx; then\n", INDENT(depth), raw_verb(s),
                   s->device, (unsigned long long)address, (unsigned long long)span->start,
                   (unsigned long long)span->length);
}

/* bootm PARCEL#ENTRY */
static void write_parcel_start(const struct mos_boot_script *script, const struct mos_boot_step *s,
                               size_t depth, struct mos_buf *out) {
    assert(script->parcel_file);
    write_load(script, out, depth, script->parcel_at, script->parcel_file);
    mos_buf_printf(out, "%sbootm 0x%08llx#%s\n%sfi\n", INDENT(depth + 1),
                   (unsigned long long)script->parcel_at, s->name, INDENT(depth));
}

/* The tree gets more room, then each overlay is read and applied; the loader spoils a tree that an
 * overlay fails on, so nothing is started then. */
static void write_overlays(const struct mos_boot_script *script, const struct mos_boot_step *s,
                           size_t depth, struct mos_buf *out) {
    if (!script->overlay_count)
        return;
    mos_buf_printf(out, "%sfdt addr 0x%08llx\n%sfdt resize 0x%llx\n", INDENT(depth),
                   (unsigned long long)s->tree.ranges[MOS_RANGE_LOADED].start, INDENT(depth),
                   (unsigned long long)script->overlay_room);
    for (size_t i = 0; i < script->overlay_count; i++) {
        const char *variable = script->overlay_variables[i];
        size_t d = depth + (variable != NULL);
        if (variable)
            mos_buf_printf(out, "%sif test \"${%s}\" = %s; then\n", INDENT(depth), variable,
                           script->overlay_values[i]);
        write_load(script, out, d, script->overlay_at, script->overlay_files[i]);
        mos_buf_printf(out, "%sfdt apply 0x%08llx\n%sfi\n", INDENT(d + 1),
                       (unsigned long long)script->overlay_at, INDENT(d));
        if (variable)
            mos_buf_printf(out, "%sfi\n", INDENT(depth));
    }
}

static void write_start(const struct mos_boot_script *script, const struct mos_boot_step *s,
                        size_t first, struct mos_buf *out) {
    const struct {
        const char *file;
        const struct mos_placement *placement;
        const struct mos_raw_span *raw;
    } loads[] = {{s->kernel_file, &s->kernel, &s->kernel_raw},
                 {s->tree_file && script->tree_variable ? "${tree_file}" : s->tree_file, &s->tree,
                  &s->tree_raw},
                 {s->ramdisk_file, &s->ramdisk, &s->ramdisk_raw}};
    size_t depth = first;
    if (s->kernel_raw.length)
        mos_buf_printf(out, "%s%.*s %s %s\n", INDENT(depth), raw_verb(script), script->device,
                       strncmp(script->device, "sf", 2) == 0 ? "probe" : "device",
                       script->device[raw_verb(script)] ? script->device + raw_verb(script) + 1
                                                        : "0");
    for (size_t i = 0; i < 3; i++)
        if (loads[i].file && loads[i].raw->length)
            write_raw_load(script, out, depth++, loads[i].placement->ranges[MOS_RANGE_LOADED].start,
                           loads[i].raw);
        else if (loads[i].file)
            write_load(script, out, depth++, loads[i].placement->ranges[MOS_RANGE_LOADED].start,
                       loads[i].file);
    bool sized = s->ramdisk_raw.length != 0; /* a raw read tells no size */
    if (s->ramdisk_file && script->overlay_count && !sized)
        mos_buf_printf(out, "%ssetenv ramdisk_size ${filesize}\n", INDENT(depth));
    if (s->tree_file)
        write_overlays(script, s, depth, out);
    if (s->packed_size) /* the loader expands it there, and copies it back */
        mos_buf_printf(out,
                       "%ssetenv kernel_comp_addr_r 0x%08llx\n%ssetenv kernel_comp_size 0x%llx\n",
                       INDENT(depth), (unsigned long long)s->kernel.ranges[MOS_RANGE_MOVED].start,
                       INDENT(depth), (unsigned long long)s->packed_size);
    mos_buf_printf(out, "%s%s 0x%08llx ", INDENT(depth), s->command,
                   (unsigned long long)s->kernel.ranges[MOS_RANGE_LOADED].start);
    if (s->ramdisk_file && sized)
        mos_buf_printf(out, "0x%08llx:0x%llx ",
                       (unsigned long long)s->ramdisk.ranges[MOS_RANGE_LOADED].start,
                       (unsigned long long)s->ramdisk_raw.length);
    else if (s->ramdisk_file) /* the file loaded last was the ramdisk: its size is still known */
        mos_buf_printf(out, "0x%08llx:${%s} ",
                       (unsigned long long)s->ramdisk.ranges[MOS_RANGE_LOADED].start,
                       script->overlay_count ? "ramdisk_size" : "filesize");
    else
        mos_buf_text(out, "- ");
    if (s->tree_file)
        mos_buf_printf(out, "0x%08llx\n",
                       (unsigned long long)s->tree.ranges[MOS_RANGE_LOADED].start);
    else
        mos_buf_text(out, "${fdtcontroladdr}\n");
    while (depth-- > first)
        mos_buf_printf(out, "%sfi\n", INDENT(depth));
}

static void write_tree_choice(const struct mos_boot_script *script, const struct mos_boot_step *s,
                              size_t depth, struct mos_buf *out) {
    if (!script->tree_variable || !s->tree_file)
        return;
    mos_buf_printf(out, "%ssetenv tree_file %s\n", INDENT(depth), name_of(script, s->tree_file));
    for (size_t i = 0; i < script->tree_count; i++)
        mos_buf_printf(out, "%sif test \"${%s}\" = %s; then setenv tree_file %s; fi\n",
                       INDENT(depth), script->tree_variable, script->tree_values[i],
                       name_of(script, script->tree_files[i]));
}

static void write_step(const struct mos_boot_script *script, const struct mos_boot_step *s,
                       size_t depth, struct mos_buf *out) {
    mos_buf_printf(out, "%secho \"Entry %s\"\n%ssetenv bootargs ", INDENT(depth), s->name,
                   INDENT(depth));
    quoted(out, s->arguments);
    mos_buf_char(out, '\n');
    write_tree_choice(script, s, depth, out);
    if (script->parcel_file)
        write_parcel_start(script, s, depth, out);
    else
        write_start(script, s, depth, out);
    mos_buf_printf(out, "%secho \"Entry %s did not start.\"\n", INDENT(depth), s->name);
}

/* Which entry comes first: the count and the entry are kept in the environment. */
static void write_count(const struct mos_boot_script *script, struct mos_buf *out) {
    assert(script->count && script->tries);
    const char *first = script->steps[0].name;
    mos_buf_printf(out,
                   "\n# Entry boot_entry comes first, where the system sets it; else %s.\n"
                   "if test -z \"${boot_entry}\"; then setenv boot_entry %s; fi\n"
                   "# Each start is counted.  The system sets boot_tries to 0 once all is well; "
                   "after %u\n# starts without that the other entries come first.\n"
                   "if test -z \"${boot_tries}\"; then setenv boot_tries 0; fi\n"
                   "order=\"\"\nfor entry in",
                   first, first, script->tries);
    for (size_t i = 0; i < script->count; i++)
        mos_buf_printf(out, " %s", script->steps[i].name);
    mos_buf_printf(out,
                   "; do\n"
                   "  if test ${entry} != ${boot_entry}; then order=\"${order} ${entry}\"; fi\n"
                   "done\n"
                   "if test ${boot_tries} -lt %u; then\n"
                   "  setexpr boot_tries ${boot_tries} + 1\n"
                   "  saveenv\n"
                   "  order=\"${boot_entry} ${order}\"\n"
                   "else\n"
                   "  echo \"Entry ${boot_entry} was started %u times and never confirmed.\"\n"
                   "  order=\"${order} ${boot_entry}\"\n"
                   "fi\n\n",
                   script->tries, script->tries);
    mos_buf_text(out, "for entry in ${order}; do\n");
}

static void write_entries(const struct mos_boot_script *script, struct mos_buf *out) {
    for (size_t i = 0; i < script->count; i++) {
        mos_buf_printf(out, "\n# %s\n", script->steps[i].name);
        write_step(script, &script->steps[i], 0, out);
    }
}

/* By hand, or from a loader's own commands: what is on the board's media is not touched. */
void ub_write_network(const struct mos_boot_script *script, const struct mos_network_way *way,
                      struct mos_buf *out) {
    struct mos_boot_script s = *script;
    s.server_folder = way->folder;
    mos_buf_printf(out,
                   "# Boots %s from a server.  The files lie there in the folder %s.\n"
                   "setenv autoload no\n",
                   script->board, way->folder);
    if (way->automatic)
        mos_buf_text(out, "dhcp\n");
    const struct {
        const char *name, *value;
    } facts[] = {{"ipaddr", way->address},
                 {"netmask", way->netmask},
                 {"gatewayip", way->gateway},
                 {"serverip", way->server}};
    for (size_t i = 0; i < sizeof facts / sizeof *facts; i++)
        if (facts[i].value)
            mos_buf_printf(out, "setenv %s %s\n", facts[i].name, facts[i].value);
    write_entries(&s, out);
    if (s.resets)
        mos_buf_text(out, "\n# Nothing started: once more from the beginning, in a while.\n"
                          "sleep 5\nreset\n");
}

void ub_write_script(const struct mos_boot_script *script, struct mos_buf *out) {
    mos_buf_printf(out, "# Boots %s.  Made by mosaicum: the next build replaces this file.\n",
                   script->board);
    write_device(script, out);
    if (script->tries)
        write_count(script, out);
    for (size_t i = 0; i < script->count; i++) {
        const struct mos_boot_step *s = &script->steps[i];
        if (script->tries)
            mos_buf_printf(out, "  if test ${entry} = %s; then\n", s->name);
        else
            mos_buf_printf(out, "\n# %s\n", s->name);
        write_step(script, s, script->tries ? 2 : 0, out);
        if (script->tries)
            mos_buf_text(out, "  fi\n");
    }
    if (script->tries)
        mos_buf_text(out, "done\n");
    if (script->resets)
        mos_buf_text(out, "\n# Nothing started: once more from the beginning, in a while.\n"
                          "sleep 5\nreset\n");
}

/* ---- menu ---- */

static const char *overlay_list(const struct mos_boot_script *script, struct mos_arena *arena) {
    struct mos_buf b = {.arena = arena};
    for (size_t i = 0; i < script->overlay_count; i++)
        mos_buf_printf(&b, "%s/%s", i ? " " : "", script->overlay_files[i]);
    return b.length ? mos_buf_string(&b) : NULL;
}

void ub_write_menu(const struct mos_boot_script *script, struct mos_buf *out) {
    struct mos_menu menu = {.title = script->board,
                            .timeout = script->timeout * 10,
                            .entries = mos_vec_make(out->arena, sizeof(struct mos_menu_entry))};
    for (size_t i = 0; i < script->count; i++) {
        const struct mos_boot_step *s = &script->steps[i];
        struct mos_menu_entry *e = mos_vec_push(&menu.entries);
        *e = (struct mos_menu_entry){
            .name = s->name,
            .kernel = mos_printf(out->arena, "/%s", s->kernel_file),
            .tree = s->tree_file ? mos_printf(out->arena, "/%s", s->tree_file) : NULL,
            .ramdisk = s->ramdisk_file ? mos_printf(out->arena, "/%s", s->ramdisk_file) : NULL,
            .overlays = overlay_list(script, out->arena),
            .arguments = s->arguments};
        menu.usual = i ? menu.usual : s->name;
    }
    mos_menu_write(&menu,
                   mos_printf(out->arena,
                              "Boots %s.  Made by mosaicum: the next build replaces this file.",
                              script->board),
                   out);
}

/* ---- environment ---- */

/* The same commands as variables: one for each entry, and bootcmd, which runs them in order. */
void ub_write_variables(const struct mos_boot_script *script, struct mos_arena *arena,
                        void (*set)(void *self, const char *name, const char *value), void *self) {
    assert(set);
    struct mos_buf all = {.arena = arena};
    bool raw = script->count && script->steps[0].kernel_raw.length;
    const char *type = script->device;
    size_t n = strcspn(type, " ");
    if (!raw)
        mos_buf_printf(&all, "setenv devtype %.*s; setenv devnum %s; setenv distro_bootpart %u",
                       (int)n, type, type[n] ? type + n + 1 : "0", script->partition);
    for (size_t i = 0; i < script->count; i++) {
        const struct mos_boot_step *s = &script->steps[i];
        struct mos_buf lines = {.arena = arena};
        write_step(script, s, 0, &lines);
        char *text = lines.data;
        for (size_t k = 0; k < lines.length; k++) /* lines become commands in one line */
            if (text[k] == '\n')
                text[k] = ';';
        struct mos_buf one = {.arena = arena};
        for (const char *p = text; *p; p++) {
            bool word =
                *p == ';' && one.length >= 4 && strncmp(one.data + one.length - 4, "then", 4) == 0;
            if (*p == ';' && !p[1])
                break;
            if (!(*p == ' ' && one.length && one.data[one.length - 1] == ' '))
                mos_buf_char(&one, word ? ' ' : *p);
        }
        const char *name = mos_printf(arena, "boot_%s", s->name);
        set(self, name, mos_buf_string(&one));
        mos_buf_printf(&all, "%srun %s", all.length ? "; " : "", name);
    }
    if (script->resets)
        mos_buf_text(&all, "; sleep 5; reset");
    set(self, "bootcmd", mos_buf_string(&all));
}

void ub_wrap_script(const struct mos_boot_script *script, const char *text, size_t length,
                    struct mos_buf *out) {
    mos_legacy_script(out, mos_printf(out->arena, "boot %s", script->board), (uint32_t)script->date,
                      text, length);
}

void ub_write_emmc_setup(const struct mos_emmc_setup *s, struct mos_buf *out) {
    const char *number = s->device + strcspn(s->device, " ");
    number += strspn(number, " ");
    number = *number ? number : "0";
    mos_buf_printf(out,
                   "# Sets up the eMMC of %s.  Run once on each new board, by hand.\n"
                   "# These settings stay in the chip; what cannot be taken back is marked.\n"
                   "mmc dev %s || exit 1\n",
                   s->board, number);
    if (s->bus_width) /* width 0, 1, 2 is 1, 4, 8 lines; the bus keeps its width and mode else */
        mos_buf_printf(out, "echo \"data lines while booting: %u\"\nmmc bootbus %s %u 0 0\n",
                       s->bus_width, number,
                       s->bus_width == 8   ? 2
                       : s->bus_width == 4 ? 1
                                           : 0);
    if (s->area)
        mos_buf_printf(out, "echo \"boots from area boot%u\"\nmmc partconf %s %u %u 0\n",
                       s->area - 1, number, s->acknowledge, s->area);
    if (s->reset_pin)
        mos_buf_printf(out,
                       "# This one cannot be taken back.\n"
                       "echo \"reset pin on\"\nmmc rst-function %s 1\n",
                       number);
    mos_buf_printf(out, "mmc partconf %s\necho \"The eMMC is set up.\"\n", number);
}

/* Erase, write, read back, compare: a region that differs is told, and the others go on.  A raw
 * NAND's commands step over bad blocks by themselves, within the region. */
void ub_write_flash_program(const struct mos_flash_program *p, struct mos_buf *out) {
    size_t type = strcspn(p->files_on, " ");
    const char *number = strchr(p->device, ' ') ? strchr(p->device, ' ') + 1 : "0";
    const char *verb = p->nand ? "nand" : "sf";
    mos_buf_printf(out,
                   "# Programs the flash of %s.  Run by hand, with these files on the first "
                   "partition of\n# %s (or of devtype and devnum).  What is in the flash is lost.\n"
                   "if test -z \"${devtype}\"; then setenv devtype %.*s; fi\n"
                   "if test -z \"${devnum}\"; then setenv devnum %s; fi\n"
                   "wrong=\"\"\n%s %s\n",
                   p->board, p->files_on, (int)type, p->files_on,
                   p->files_on[type] ? p->files_on + type + 1 : "0",
                   p->nand ? "nand device" : "sf probe", number);
    if (p->correction)
        mos_buf_printf(out, "# The error correction that the ROM and the kernel use.\n%s\n",
                       p->correction);
    for (size_t i = 0; i < p->count; i++) {
        const struct mos_flash_item *x = &p->items[i];
        unsigned long long from = x->from, erase = x->erase, to = x->at, write = x->write,
                           at = p->at, back = p->back_at;
        mos_buf_printf(
            out,
            "\n# %s\n"
            "if load ${devtype} ${devnum}:1 0x%08llx %s && test 0x${filesize} -eq 0x%llx; then\n"
            "  if %s erase 0x%llx 0x%llx && %s write 0x%08llx 0x%llx 0x%llx && "
            "%s read 0x%08llx 0x%llx 0x%llx && cmp.b 0x%08llx 0x%08llx 0x%llx; then\n"
            "    echo \"%s is programmed.\"\n  else\n    wrong=\"${wrong} %s\"\n  fi\n"
            "else\n  wrong=\"${wrong} %s\"\nfi\n",
            x->name, at, x->file, write, verb, from, erase, verb, at, to, write, verb, back, to,
            write, at, back, write, x->name, x->name, x->name);
    }
    for (size_t i = 0; p->nand && i < p->count; i++) {
        const struct mos_flash_item *x = &p->items[i];
        unsigned long long to = x->at, write = x->write, at = p->at, back = p->back_at;
        mos_buf_printf(
            out,
            "%s"
            "if load ${devtype} ${devnum}:1 0x%08llx %s && nand read 0x%08llx 0x%llx 0x%llx && "
            "cmp.b "
            "0x%08llx 0x%08llx 0x%llx; then\n  echo \"%s is as it was written.\"\nelse\n  "
            "wrong=\"${wrong} %s\"\nfi\n",
            i ? ""
              : "\n# With more bad blocks than it has room for, a region runs into the next "
                "one: all of them once more, and that counts.\nwrong=\"\"\n",
            at, x->file, back, to, write, at, back, write, x->name, x->name);
    }
    mos_buf_text(out, "\nif test -n \"${wrong}\"; then echo \"Not programmed:${wrong}\"; else echo "
                      "\"The flash is programmed.\"; fi\n");
}
