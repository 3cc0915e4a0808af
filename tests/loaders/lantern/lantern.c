/* The row: Lantern's words, and the script in them. */
#include "loaders/lantern/lantern.h"

#include <string.h>

static void bring(const struct mos_boot_script *s, const char *file, const struct mos_placement *p,
                  struct mos_buf *out) {
    mos_buf_printf(out, "bring %u %s %llxh\n", s->partition, file,
                   (unsigned long long)p->ranges[MOS_RANGE_LOADED].start);
}

static void write_script(const struct mos_boot_script *script, struct mos_buf *out) {
    mos_buf_printf(out, "; %s\n", script->board);
    for (size_t i = 0; i < script->count; i++) {
        const struct mos_boot_step *s = &script->steps[i];
        mos_buf_printf(out, "light %s\n", s->name);
        bring(script, s->kernel_file, &s->kernel, out);
        if (s->tree_file)
            bring(script, s->tree_file, &s->tree, out);
        if (s->ramdisk_file)
            bring(script, s->ramdisk_file, &s->ramdisk, out);
        mos_buf_printf(out, "tell %s\n%s %llxh", s->arguments, s->command,
                       (unsigned long long)s->kernel.ranges[MOS_RANGE_LOADED].start);
        if (s->tree_file)
            mos_buf_printf(out, " tree %llxh",
                           (unsigned long long)s->tree.ranges[MOS_RANGE_LOADED].start);
        if (s->ramdisk_file)
            mos_buf_printf(out, " ramdisk %llxh",
                           (unsigned long long)s->ramdisk.ranges[MOS_RANGE_LOADED].start);
        mos_buf_char(out, '\n');
    }
    if (script->resets)
        mos_buf_text(out, "again\n");
}

static void wrap_script(const struct mos_boot_script *script, const char *text, size_t length,
                        struct mos_buf *out) {
    (void)script;
    mos_buf_add(out, text, length);
}

static const struct mos_loader_command commands[] = {
    {"bring", "CONFIG_LANTERN_BRING"}, {"leave", "CONFIG_LANTERN_LEAVE"}, {NULL, NULL}};
static const struct mos_loader_verb verbs[] = {
    {"bring", 3, 0, 2}, {"leave", 0, 1, 0}, {NULL, 0, 0, 0}};
static const struct mos_dialect_volume volumes[] = {
    {"fat32", {.dialect = "lantern", .word = "fat", .symbol = "CONFIG_LANTERN_FAT"}}, {NULL, {0}}};
static const struct mos_loader_medium media[] = {
    {"card", "sd", "mmc"}, {"stick", "usb", "usb"}, {NULL, NULL, NULL}};
static const char *const brings[] = {"bring", NULL};

const struct mos_dialect mos_dialect_lantern = {
    .name = "lantern",
    .script_file = LANTERN_SCRIPT,
    .script_suffix = "txt",
    .write_script = write_script,
    .wrap_script = wrap_script,
    .stored = &lantern_stored,
    .language = {.verbs = verbs},
    .starts = {[MOS_KERNEL_IMAGE] = "leave"},
    .ways = {.file = brings},
    .unknown = {"What is ", "?"},
    .commands = commands,
    .volumes = volumes,
    .media = media,
    .simulated = &lantern_simulated,
};
