#include "cli/cli.h"

#include <string.h>

static int run(struct cli *cli) {
    bool stream = cli->output && strcmp(cli->output, "-") == 0;
    if (stream && cli->json) {
        fprintf(to_err, "%smosaicum:%s --json and -o - both want standard output\n",
                style(cli, STYLE_ERROR), style(cli, STYLE_END));
        return MOSAICUM_USAGE;
    }
    mosaicum *m = cli_open(cli, false);
    if (!m)
        return MOSAICUM_SYSTEM;
    int status = print_result(cli, m, "take",
                              mosaicum_take(m, cli->arguments[0], cli->arguments[1], cli->output));
    if (!cli->quiet || status)
        print_report(cli, m, stream ? to_err : to_out);
    mosaicum_free(m);
    return status;
}

const struct command command_take = {
    .name = "take",
    .usage = "IMAGE REGION[:PATH]",
    .about = "copies a file, a folder or a whole region out of an image",
    .details = "REGION is a number, a name, a label, or where it begins (\"1 MiB\"); a "
               "volume in a raw flash has a name. With :PATH it is a file, or a folder as an "
               "archive with owners, modes, links and attributes. Without -o it is named "
               "after what it was; -o - is standard output. Nothing is written over.",
    .examples = "mosaicum take card.img root:etc/fstab\n"
                "mosaicum take card.img root:etc -o etc.tar.gz\n"
                "mosaicum take card.img 2 -o root.img\n",
    .least = 2,
    .most = 2,
    .run = run,
};
