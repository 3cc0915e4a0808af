#include "session.h"
#include "loaders/loaders.h"

#include "base/bytes.h"
#include "content/content.h"
#include "io/io.h"
#include "loaders/u-boot/legacy.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* Legacy images of a kernel, a ramdisk, and both with a tree: the payload behind a header. */
static void write_legacy(const char *w, const char *name, uint8_t type, uint8_t compression,
                         uint32_t load, const struct mos_buf *payload) {
    uint8_t head[MOS_LEGACY_HEADER] = {0x27, 0x05, 0x19, 0x56};
    struct mos_buf out = {.arena = payload->arena};
    mos_put_be32(head + 8, 1767225600);
    mos_put_be32(head + 16, load);
    mos_put_be32(head + 20, load);
    head[28] = 5;  /* Linux */
    head[29] = 22; /* arm64 */
    head[30] = type;
    head[31] = compression;
    snprintf((char *)head + 32, 32, "tide %s", name);
    mos_legacy_seal(head, payload->data, payload->length);
    mos_buf_add(&out, head, sizeof head);
    mos_buf_add(&out, payload->data, payload->length);
    write_file(path_in(w, "session/%s", name), out.data, out.length);
}

enum { KERNEL = 2, RAMDISK = 3, MULTI = 4 };

static void write_legacies(struct core *c, const char *w) {
    static const char disk[] = "a small ramdisk of the jetty";
    size_t kernel_length, tree_length;
    char *kernel = read_whole(path_in(w, "session/plain"), &kernel_length);
    char *tree = read_whole(path_in(w, "session/plain.dtb"), &tree_length);
    CU_ASSERT_FATAL(kernel && tree);
    struct mos_buf plain = {.arena = c->ctx.arena}, packed = plain, small = plain, lzma = plain;
    size_t lzma_length;
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s/session' && xz --format=lzma -k plain && gzip -nk text && xz "
                              "--format=lzma -k text",
                              w));
    char *squeezed = read_whole(path_in(w, "session/plain.lzma"), &lzma_length);
    mos_buf_add(&lzma, squeezed, lzma_length);
    free(squeezed);
    mos_buf_add(&plain, kernel, kernel_length);
    mos_buf_add(&small, disk, sizeof disk);
    CU_ASSERT_TRUE_FATAL(mos_pack_memory(&c->ctx, "gz", kernel, kernel_length, &packed));
    write_legacy(w, "kernel.legacy", KERNEL, 0, 0x44000000, &plain);
    write_legacy(w, "packed.legacy", KERNEL, 1, 0x44000000, &packed);
    write_legacy(w, "lzma.legacy", KERNEL, 3, 0x44000000, &lzma);
    write_legacy(w, "disk.legacy", RAMDISK, 0, 0, &small);
    for (unsigned parts = 1; parts <= 3; parts++) {
        const struct mos_buf all[] = {plain, small, {c->ctx.arena, tree, tree_length, 0}};
        struct mos_buf multi = {.arena = c->ctx.arena};
        for (unsigned i = 0; i < parts; i++)
            mos_buf_be32(&multi, (uint32_t)all[i].length);
        mos_buf_be32(&multi, 0);
        for (unsigned i = 0; i < parts; i++) {
            mos_buf_add(&multi, all[i].data, all[i].length);
            mos_buf_align(&multi, 4);
        }
        write_legacy(w, path_in("", "multi%u.legacy", parts) + 1, MULTI, 0, 0x44000000, &multi);
    }
    free(kernel);
    free(tree);
}

const char *session_image(void) {
    const char *w = keep(test_folder("session"));
    copy_demo(w);
    copy_folder(path_in(MOSAICUM_SOURCE, "tests/data/session"), path_in(w, "session"));
    struct core c;
    core_start(&c);
    struct mos_buf script = {.arena = c.ctx.arena};
    static const char text[] = "echo from a script\necho ${none}end; false\n";
    mos_legacy_script(&script, "good", 1767225600, text, strlen(text));
    write_file(path_in(w, "session/good.scr"), script.data, script.length);
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s' && '%s' --no-cache -q build && for f in kernel:plain "
                              "main.dtb:plain.dtb; do '%s' -q take out/curlew/card.img "
                              "1:${f%%:*} -o session/${f#*:}; done",
                              w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
    write_legacies(&c, w);
    CU_ASSERT_TRUE_FATAL(runs(0, "cd '%s' && rm session/plain session/plain.*", w));
    core_end(&c);
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && '%s' --no-cache -q -w '%s/demo/saltmarsh' build avocet --out avocet && '%s' -q "
        "take avocet/avocet/emmc.img 1:boot.parcel -o session/boot.parcel && sed -i 's/fills: "
        "{boot: {made: boot}}/fills: {boot: {made: boot}, session: {folder: session, to: s}}/' "
        "boards/curlew.yaml && grep -q 'to: s' boards/curlew.yaml && '%s' --no-cache -q build",
        w, MOSAICUM_PROGRAM, MOSAICUM_SOURCE, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
    return keep(path_in(w, "out/curlew/card.img"));
}

struct mos_rehearsal_shell *session_shell(struct core *c, const char *image,
                                          const struct mos_map *compiled) {
    static const char *const lacks[] = {"[", "bootz", "mmc", "sf", "sata", "overlays", NULL};
    struct mos_arena *arena = c->ctx.arena;
    const struct mos_host *h = c->ctx.host;
    struct mos_io *io = mos_alloc(arena, sizeof *io);
    struct mos_rig_medium *medium = mos_alloc(arena, sizeof *medium);
    struct mos_rig *machine = mos_alloc(arena, sizeof *machine);
    struct mos_file_info info;
    int file;
    CU_ASSERT_EQUAL_FATAL(h->open(h, image, MOS_OPEN_READ, &file), 0);
    h->file_info(h, file, &info);
    *io = mos_io_file(arena, h, file, info.size);
    *medium = (struct mos_rig_medium){"disk", "virtio 0", "vda", io};
    *machine = (struct mos_rig){.dialect = mos_dialect_at(0),
                                .cpu = "arm64",
                                .ram = {0x40000000, 512u << 20},
                                .loader_from = 0x5dda8800,
                                .media = medium,
                                .media_count = 1,
                                .compiled = compiled,
                                .most_words = 64,
                                .most_line = 512,
                                .picks = MOS_PICKS_BY_TREE,
                                .lacks = lacks};
    return mos_rehearsal_shell(&c->ctx, machine);
}

/* Is a line still of the help text of the command that `usage` begins with? */
static bool goes_on(const char *line, const char *usage) {
    static const char *const begins[] = {"NOTE:", "For the new multi", "Sub-commands to",
                                         "issued in", NULL};
    bool is = *line == ' ' || *line == '\t' || strncmp(line, usage, strcspn(usage, " ")) == 0;
    for (const char *const *b = begins; *b; b++)
        is |= strncmp(line, *b, strlen(*b)) == 0;
    return is;
}

void session_plain(char *text) {
    char *to = text, *plain = text;
    for (const char *p = text; *p; p++) /* a terminal shows nothing for it */
        if (*p != '\r')
            *plain++ = *p;
    *plain = 0;
    for (char *p = text; *p;) {
        size_t n = strcspn(p, "\n");
        char *line = to;
        char *bytes = strstr(p, " bytes read in ");
        if (bytes && bytes < p + n) {
            size_t keep_length = (size_t)(bytes - p) + strlen(" bytes read");
            memmove(to, p, keep_length);
            to += keep_length;
        } else {
            memmove(to, p, n);
            to += n;
        }
        char *tree =
            strstr(line, "FDT_ERR_"); /* which function says so is the loader's own affair */
        if (tree && tree < to) {
            memmove(line + 6, tree, (size_t)(to - tree));
            memcpy(line, "tree: ", 6);
            to = line + 6 + (to - tree);
        }
        bool more = p[n] == '\n';
        /* "NAME - about it", an empty line, "Usage:" … to the end of the help text */
        char *usage = strstr(p, "\n\nUsage:\n");
        p += n;
        if (usage == p) {
            char *dash = to;
            while (dash > text && dash[-1] != '\n')
                dash--;
            char *sign = strstr(dash, " - ");
            if (sign && sign < to)
                to = sign + sprintf(sign, " - usage");
            p += strlen("\n\nUsage:\n");
            while (*p && (goes_on(p, dash) || (*p == '\n' && goes_on(p + 1, dash))))
                p += strcspn(p, "\n") + 1;
            p += *p == '\n'; /* some end in an empty line */
            *to++ = '\n';
            continue;
        }
        if (more) {
            *to++ = '\n';
            p++;
        }
    }
    *to = 0;
}

const char *session_path(void) {
    return path_in(MOSAICUM_SOURCE, "tests/data/loader-session.txt");
}

void session_note(struct mos_buf *out, const char *line, const char *said) {
    mos_buf_printf(out, "> %s\n", line);
    for (const char *p = said; p && *p;) {
        size_t n = strcspn(p, "\n");
        mos_buf_printf(out, "|%s%.*s\n", n ? " " : "", (int)n, p);
        p += n + (p[n] == '\n');
    }
    if (!said)
        mos_buf_text(out, "?\n");
}
