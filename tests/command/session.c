/* What the real loader said to some hundred lines (tests/data/loader-session.txt, written by the
 * peers tests), the rehearsal says, too. */
#include "session.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* The answer that stands in the record behind *at, which moves on; NULL: it is not compared. */
static const char *answer(struct mos_buf *to, char **at) {
    to->length = 0;
    if (**at == '?') {
        *at += 2;
        return NULL;
    }
    while (**at == '|') {
        char *line = *at + 1 + ((*at)[1] == ' ');
        size_t n = strcspn(line, "\n");
        mos_buf_printf(to, "%.*s\n", (int)n, line);
        *at = line + n + 1;
    }
    return mos_buf_string(to);
}

static void the_loader_is_repeated(void) {
    struct core c;
    core_start(&c);
    struct mos_rehearsal_shell *shell = session_shell(&c, session_image(), NULL);
    char *all = read_whole(session_path(), NULL);
    CU_ASSERT_PTR_NOT_NULL_FATAL(all);
    struct mos_buf expected = {.arena = c.ctx.arena};
    unsigned compared = 0;
    for (char *p = all; *p;) {
        CU_ASSERT_FATAL(strncmp(p, "> ", 2) == 0);
        char *line = p + 2, *end = strchr(line, '\n');
        *end = 0;
        p = end + 1;
        const char *said = answer(&expected, &p);
        char *ours = strdup(mos_rehearsal_type(shell, line));
        session_plain(ours);
        bool same = !said || strcmp(said, ours) == 0;
        CU_ASSERT(same);
        if (!same)
            printf("\nscript: %s\n--- the loader:\n%s--- the rehearsal:\n%s", line, said, ours);
        compared += said != NULL;
        free(ours);
    }
    CU_ASSERT(compared > 450);
    /* what the loader leaves out without a word, the rehearsal says */
    CU_ASSERT_TRUE(mos_rehearsal_told(
        shell, "the loader was built without overlays: it leaves /s/lost.dtbo /s/text out"));
    free(all);
    core_end(&c);
}

/* Every one of these ends a real loader of 512 MiB from 0x40000000 on; a byte before, none does. */
static void nothing_answers_behind_the_ram(void) {
    static const char *const lines[] = {
        "md.b %x 1",          "mw.b %x 1",           "cp.b %x 40300000 1",
        "cp.b 40300000 %x 1", "cmp.b %x 40300000 1", "cmp.b 40300000 %x 1",
        "crc32 %x 1",         "iminfo %x",           "imxtract %x 0",
        "fdt addr %x",        "unzip %x 40300000",   "lzmadec %x 40300000",
        "env import -t %x 1", "env export -t %x",    "source %x",
        "bootm %x",           "bootm start %x",      "booti %x"};
    static const unsigned places[] = {0x60000000, 0x5fffffff};
    struct core c;
    core_start(&c);
    struct mos_rehearsal_shell *shell = session_shell(&c, session_image(), NULL);
    for (size_t i = 0; i < sizeof lines / sizeof *lines; i++)
        for (size_t k = 0; k < 2; k++) {
            char line[100];
            snprintf(line, sizeof line, lines[i], places[k]);
            strcat(line, "; echo it goes on");
            const char *said = mos_rehearsal_type(shell, line);
            bool ended = strstr(said, "data abort") && !strstr(said, "it goes on");
            bool goes_on = !strstr(said, "data abort") && strstr(said, "it goes on");
            if (k ? !goes_on : !ended)
                printf("\n%s\n%s", line, said);
            CU_ASSERT(k ? goes_on : ended);
        }
    core_end(&c);
}

SUITE(session_suite, {"the loader is repeated", the_loader_is_repeated},
      {"nothing answers behind the RAM", nothing_answers_behind_the_ram});
