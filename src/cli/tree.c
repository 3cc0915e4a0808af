#include "cli/cli.h"

#include <string.h>
#include <unistd.h>

/* Does a word name a tree of a board, and no file?  Then the workspace is needed. */
static bool needs_workspace(const struct cli *cli) {
    const char *verb = cli->arguments[0];
    if (strcmp(verb, "compile") == 0 || strcmp(verb, "apply") == 0 || cli->argument_count < 2)
        return false;
    bool second = strcmp(verb, "compare") == 0 && cli->argument_count > 2;
    return access(cli->arguments[1], F_OK) != 0 || (second && access(cli->arguments[2], F_OK) != 0);
}

static int run(struct cli *cli) {
    const char *verb = cli->arguments[0];
    bool stream = cli->output && strcmp(cli->output, "-") == 0;
    if ((stream && cli->json) || (cli->picture && strcmp(verb, "draw") != 0)) {
        fprintf(to_err, "%smosaicum:%s %s\n", style(cli, STYLE_ERROR), style(cli, STYLE_END),
                cli->picture ? "--picture draws a tree: tree draw"
                             : "--json and -o - both want standard output");
        return MOSAICUM_USAGE;
    }
    bool boards = needs_workspace(cli) && (cli->workspace || cli_find_workspace());
    mosaicum *m = cli_open(cli, boards);
    if (!m)
        return MOSAICUM_SYSTEM;
    cli->aside = strcmp(verb, "bindings") != 0; /* they are what it is for */
    struct mosaicum_tree request = {.verb = verb,
                                    .files = cli->arguments + 1,
                                    .count = (size_t)cli->argument_count - 1,
                                    .includes = cli->includes,
                                    .defines = cli->defines,
                                    .output = cli->output,
                                    .keep_labels = cli->keep_labels,
                                    .bindings = cli->bindings};
    int status = print_result(cli, m, "tree", mosaicum_tree(m, &request));
    if (cli->picture && status <= MOSAICUM_FINDINGS) {
        int drawn = draw_tree(cli, m, cli->picture);
        status = drawn ? drawn : status;
    } else if (!cli->quiet || !cli->output || status) {
        print_report(cli, m, stream ? to_err : to_out);
    }
    mosaicum_free(m);
    return status;
}

const struct command command_tree = {
    .name = "tree",
    .usage = "VERB TREE…",
    .about = "device trees: compile, text, apply, compare, claims, find, draw, bindings",
    .details =
        "compile SOURCE… -o BLOB; text TREE as a source; apply BASE OVERLAY… -o BLOB, all of them "
        "or nothing; compare A B by nodes and properties; claims TREE, what its enabled nodes "
        "take; find TREE WORD, a label, path, compatible or property; draw TREE, buses, pins and "
        "interrupts; bindings TREE…, every node against the kernel's schema files. TREE is a "
        "source, "
        "a blob or a selector.",
    .examples =
        "mosaicum tree compile tree/curlew.dts -o curlew.dtb --keep-labels\n"
        "mosaicum tree apply curlew.dtb tree/pressure.dtso -o merged.dtb\n"
        "mosaicum tree claims curlew\n"
        "mosaicum tree draw curlew.dtb --picture curlew.svg\n"
        "mosaicum tree bindings curlew.dtb --bindings linux/Documentation/devicetree/bindings\n",
    .least = 1,
    .most = -1,
    .run = run,
};
