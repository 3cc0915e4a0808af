/* The guides: what they say to type is typed, in a clean folder, and says what they say. */
#include "support.h"

#include <stdlib.h>
#include <string.h>

/* Goes through a guide; a shell that keeps its folder from one block to the next. */
struct reader {
    const char *name, *folder;
    char *here; /* where the commands so far have led */
    size_t commands;
};

static void fail(const struct reader *r, const char *command, const char *what, const char *line,
                 const struct outcome *o) {
    fprintf(stderr, "\n%s: %s: %s%s\nstatus %d\n%s%s\n", r->name, command, what, line, o->status,
            o->out, o->err);
    CU_FAIL("a guide that does not lead there");
}

/* One command with the lines that must come, up to the next; where it ends. */
static char *follow(struct reader *r, char *line) {
    char *command = line + 2, *next = strchr(line, '\n'), *at;
    int status = 0;
    bool any = false;
    *next++ = 0;
    struct outcome o = run_shell("export PATH=\"$(dirname '%s'):$PATH\" HOME='%s' "
                                 "XDG_CACHE_HOME='%s/cache'; cd '%s' && %s ",
                                 MOSAICUM_PROGRAM, r->folder, r->folder, r->here, command);
    at = o.out;
    r->commands++;
    while (*next && strncmp(next, "$ ", 2) != 0 && strncmp(next, "```", 3) != 0) {
        char *end = strchr(next, '\n'), *found;
        *end = 0;
        if (strcmp(next, "(exit status any)") == 0)
            any = true;
        else if (sscanf(next, "(exit status %d)", &status) != 1) {
            found = strstr(at, next);
            if (!found && strstr(o.err, next))
                found = at;
            if (!found)
                fail(r, command, "does not say ", next, &o);
            else
                at = found;
        }
        next = end + 1;
    }
    if (o.status != status && !any)
        fail(r, command, "ends otherwise", "", &o);
    outcome_free(&o);
    return next;
}

/* "```yaml boards/curlew.yaml": what follows is put at the end of that file. */
static char *put_block(struct reader *r, char *p) {
    char *path = p + strlen("```yaml "), *text = strchr(path, '\n'), *end = strstr(text, "\n```");
    *text++ = 0;
    *end = 0;
    FILE *to = fopen(path_in(r->here, "%s", path), "a");
    CU_ASSERT_PTR_NOT_NULL_FATAL(to);
    fprintf(to, "%s\n", text);
    fclose(to);
    return end + 1;
}

static void follow_guide(const char *name) {
    char *text = read_whole(path_in(MOSAICUM_SOURCE, "docs/guides/%s", name), NULL);
    const char *folder = keep(test_folder("guide"));
    struct reader r = {name, folder, strdup(folder), 0};
    CU_ASSERT_PTR_NOT_NULL_FATAL(text);
    for (char *p = text; (p = strstr(p, "```"));) {
        if (strncmp(p, "```yaml ", strlen("```yaml ")) == 0)
            p = put_block(&r, p);
        bool typed = strncmp(p, "```console\n", strlen("```console\n")) == 0;
        p += typed ? strlen("```console\n") : 3;
        while (strncmp(p, "$ ", 2) == 0) {
            char *cd = strstr(p, "cd "), *end = strchr(p, '\n');
            bool moves = cd && cd < end && (cd == p + 2 || strncmp(cd - 3, "&& ", 3) == 0);
            char *to = moves ? strndup(cd + 3, (size_t)(end - cd) - 3) : NULL;
            p = follow(&r, p);
            if (to) {
                char *now = strdup(path_in(r.here, "%s", to));
                free(r.here);
                r.here = now;
                free(to);
            }
        }
    }
    CU_ASSERT(r.commands > 1);
    free(r.here);
    free(text);
    remove_folder(folder);
}

static void guides_lead_there(void) {
    struct outcome list = run_shell("ls '%s/docs/guides'", MOSAICUM_SOURCE);
    size_t count = 0;
    for (char *save, *name = strtok_r(list.out, "\n", &save); name;
         name = strtok_r(NULL, "\n", &save), count++)
        follow_guide(name);
    CU_ASSERT(count >= 7);
    outcome_free(&list);
}

/* docs/json has one document of each command, as it is today. */
static void examples_are_true(void) {
    static const struct {
        const char *name, *command, *before; /* NULL: nothing has to be done first */
    } examples[] = {
        {"check", "--json -w ../mistakes/loader-over-env check"},
        {"list", "--json list"},
        {"show", "--json show dunlin ram"},
        {"compare", "--json compare curlew+bench curlew+field"},
        {"build", "--json build dunlin"},
        {"rehearse", "--json rehearse avocet --planned"},
        {"inspect", "--json inspect out/dunlin/card.img"},
        {"take", "--json take out/dunlin/card.img 2:etc/fstab -o table"},
        {"amend", "--json amend out/dunlin/card.img 2:etc/issue=table -o new.img"},
        {"pin", "--json pin dunlin"},
        {"new", "--json new jetty --cpu arm64 --ram-start 0x40000000 --ram '512 MiB'"},
        {"listen", "--json listen curlew+bench --stored boot.log",
         "printf 'U-Boot 2023.01 (Aug 09 2023 - 12:00:00 +0000)\\nEntry main\\nERROR: Did not find "
         "a "
         "cmdline Flattened Device Tree\\n=> ' >boot.log"},
        {"explain", "--json explain layout.gap"},
        {"tree", "--json tree claims curlew"},
        {"renew", "--json renew pieces/linux.tar.zst newer -o renewal",
         "mkdir newer && tar -C newer -xf pieces/linux.tar.zst && printf newer >>newer/boot/Image"},
    };
    const char *w = keep(test_folder("examples"));
    copy_folder(path_in(MOSAICUM_SOURCE, "demo"), w);
    for (size_t i = 0; i < sizeof examples / sizeof *examples; i++) {
        struct outcome o = run_shell("cd '%s/saltmarsh' && %s && '%s' --no-cache %s", w,
                                     examples[i].before ? examples[i].before : ":",
                                     MOSAICUM_PROGRAM, examples[i].command);
        hold_file(examples[i].name, path_in(MOSAICUM_SOURCE, "docs/json/%s.json", examples[i].name),
                  o.out);
        outcome_free(&o);
    }
    struct outcome o = run_shell("ls '%s'/docs/json | wc -l", MOSAICUM_SOURCE);
    CU_ASSERT_EQUAL(strtoul(o.out, NULL, 10), sizeof examples / sizeof *examples);
    outcome_free(&o);
}

SUITE(guides_suite, {"guides lead there", guides_lead_there},
      {"examples are true", examples_are_true});
