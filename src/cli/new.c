#include "cli/cli.h"

#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* ---- questions, where nobody gave options and somebody is there to answer ---- */

enum { LONGEST_ANSWER = 1024 };

struct question {
    const char *text, *why, *usual;
    const char **answer;
    bool file; /* it must be there */
};

/* One line from the terminal, without blanks around it; NULL at its end. */
static char *read_answer(void) {
    static char lines[32][LONGEST_ANSWER]; /* more than anybody answers wrongly */
    static size_t used;
    char *line = lines[used++ % 32];
    if (!fgets(line, LONGEST_ANSWER, stdin))
        return NULL;
    line[strcspn(line, "\n")] = 0;
    size_t n = strlen(line);
    while (n && line[n - 1] == ' ')
        line[--n] = 0;
    return line + strspn(line, " ");
}

static bool ask(const struct cli *cli, const struct question *q) {
    if (*q->answer)
        return true;
    fprintf(to_out, "%s%s%s%s%s%s\n  %s%s%s\n  > ", style(cli, STYLE_STRONG), q->text,
            style(cli, STYLE_END), q->usual ? "  [" : "", q->usual ? q->usual : "",
            q->usual ? "]" : "", style(cli, STYLE_DIM), q->why, style(cli, STYLE_END));
    for (;;) {
        fflush(to_out);
        const char *line = read_answer();
        if (!line)
            return false;
        *q->answer = *line ? line : q->usual;
        if (!q->file || !*line || access(line, R_OK) == 0)
            return true;
        fprintf(to_out, "  There is no such file; another one, or Enter for none.\n  > ");
    }
}

static bool ask_all(const struct cli *cli, struct mosaicum_draft *d) {
    const struct question questions[] = {
        {"Name of the board", "It names its file, its outputs and its identifiers.", "board",
         &d->name},
        {"Processor: arm64, arm, riscv64 or x86-64",
         "Its kernel formats and boot rules follow from it.", "arm64", &d->cpu},
        {"First address of RAM", "Addresses are chosen and checked against it.", "0x40000000",
         &d->ram_start},
        {"Size of RAM", "The smallest that is fitted.", "512 MiB", &d->ram_size},
        {"Serial console, as the kernel calls it", "Where you will look when it stays silent.",
         "ttyAMA0", &d->console},
        {"Its speed in bits a second", "The same for loader and kernel.", "115200", &d->baud},
        {"Medium it starts from: sd, emmc, usb, nvme, nor or nand", "What the image is written to.",
         "sd", &d->medium},
        {"Size of that medium", "The smallest that may be used.", "1 GiB", &d->size},
        {"File of the kernel", "Leave it empty if there is none yet.", NULL, &d->kernel, true},
        {"File of the device tree, source or blob", "Leave it empty if there is none yet.", NULL,
         &d->tree, true},
        {"Archive of the root file system", "Leave it empty if there is none yet.", NULL, &d->root,
         true},
    };
    fprintf(to_out, "A few questions; Enter takes what stands in brackets.\n\n");
    for (size_t i = 0; i < sizeof questions / sizeof *questions; i++)
        if (!ask(cli, &questions[i]))
            return false;
    fprintf(to_out, "\n");
    return true;
}

static bool has_facts(const struct mosaicum_draft *d) {
    return d->cpu || d->ram_start || d->ram_size || d->console || d->medium || d->size ||
           d->kernel || d->tree || d->root || d->from;
}

static void say_next(const struct cli *cli, const char *name) {
    const char *w = cli->workspace && strcmp(cli->workspace, ".") != 0 ? cli->workspace : NULL;
    fprintf(to_out, "\nNext: edit %s%sboards/%s.yaml, then mosaicum %s%s%scheck\n", w ? w : "",
            w ? "/" : "", name, w ? "-w " : "", w ? w : "", w ? " " : "");
}

static int run(struct cli *cli) {
    struct mosaicum_draft d = cli->draft;
    bool interactive = isatty(0) && isatty(1) && !cli->json;
    d.name = cli->argument_count ? cli->arguments[0] : NULL;
    if (!cli->workspace)
        cli->workspace = cli_find_workspace();
    if (!cli->workspace)
        cli->workspace = ".";
    if (!has_facts(&d) && interactive && !ask_all(cli, &d))
        return MOSAICUM_USAGE;
    if (!d.name)
        d.name = "board";
    mosaicum *m = cli_open(cli, false);
    if (!m)
        return MOSAICUM_USAGE;
    int status = print_result(cli, m, "new", mosaicum_new_board(m, &d));
    if (!cli->quiet)
        print_report(cli, m, to_out);
    if (!cli->json && !status && !cli->quiet)
        say_next(cli, d.name);
    mosaicum_free(m);
    return status;
}

const struct command command_new = {
    .name = "new",
    .usage = "[NAME]",
    .about = "starts a workspace or adds a board, from options, questions or an image",
    .details = "Starts a workspace in this folder, or adds a board to the one that is here. "
               "Without options it asks, on a terminal. What nobody could tell stands in the "
               "draft under `questions`, and every check counts it until it is answered. "
               "--from drafts the board from an image that boots: its table, volumes, "
               "environment and entries, with everything they hold taken out.",
    .examples = "mosaicum new jetty\n"
                "mosaicum new jetty --cpu arm64 --ram-start 0x40000000 --ram \"512 MiB\" --kernel "
                "Image --root rootfs.tar.zst\n"
                "mosaicum new jetty --from card.img\n",
    .most = 1,
    .run = run,
};
