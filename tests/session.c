#include "session.h"

#include "boot/legacy.h"
#include "io/io.h"

#include <stdio.h>
#include <string.h>

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
    struct mos_machine_medium *medium = mos_alloc(arena, sizeof *medium);
    struct mos_machine *machine = mos_alloc(arena, sizeof *machine);
    struct mos_file_info info;
    int file;
    CU_ASSERT_EQUAL_FATAL(h->open(h, image, MOS_OPEN_READ, &file), 0);
    h->file_info(h, file, &info);
    *io = mos_io_file(arena, h, file, info.size);
    *medium = (struct mos_machine_medium){"disk", "virtio 0", "vda", io};
    *machine = (struct mos_machine){.cpu = "arm64",
                                    .ram = {0x40000000, 512u << 20},
                                    .loader_from = 0x5ddb2000,
                                    .media = medium,
                                    .media_count = 1,
                                    .compiled = compiled,
                                    .most_words = 64,
                                    .lacks = lacks};
    return mos_rehearsal_shell(&c->ctx, machine);
}

void session_plain(char *text) {
    char *to = text;
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
            while (*p) { /* the help goes on while lines begin with blanks or the name itself */
                size_t rest = strcspn(p, "\n");
                bool is_help = *p == ' ' || *p == '\t' ||
                               strncmp(p, dash, strcspn(dash, " ")) == 0 ||
                               strncmp(p, "NOTE:", 5) == 0;
                if (!is_help)
                    break;
                p += rest + (p[rest] == '\n');
            }
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
