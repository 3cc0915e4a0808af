#include "cli/cli.h"

static int run(struct cli *cli) {
    if (!cli->output) {
        fprintf(to_err, "%smosaicum:%s renew writes a folder: name it with -o FOLDER\n",
                style(cli, STYLE_ERROR), style(cli, STYLE_END));
        return MOSAICUM_USAGE;
    }
    mosaicum *m = cli_open(cli, false);
    if (!m)
        return MOSAICUM_SYSTEM;
    int status = print_result(cli, m, "renew",
                              mosaicum_renew(m, cli->arguments[0], cli->arguments[1], cli->output));
    if (!cli->quiet || status)
        print_report(cli, m, to_out);
    mosaicum_free(m);
    return status;
}

const struct command command_renew = {
    .name = "renew",
    .usage = "OLD NEW -o FOLDER",
    .about = "what brings boards from one build of a kernel to another, with a script to run there",
    .details =
        "OLD and NEW are folders, archives or packages with lib/modules/RELEASE, and boot/ where "
        "the kernel is to change, too. The folder has the files that differ, the index of modules "
        "made again, and install.sh: it checks that the board has what OLD has before it changes "
        "anything, keeps that, and puts it back when asked. Modules of another release are "
        "refused.",
    .examples = "mosaicum renew linux-1.deb linux-2.deb -o renewal\n"
                "mosaicum renew before after -o renewal\n",
    .least = 2,
    .most = 2,
    .run = run,
};
