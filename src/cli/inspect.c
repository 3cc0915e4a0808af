#include "cli/cli.h"

static int run(struct cli *cli) {
    mosaicum *m = cli_open(cli, false);
    if (!m)
        return MOSAICUM_SYSTEM;
    int status =
        print_result(cli, m, "inspect", mosaicum_inspect(m, cli->arguments[0], cli->files));
    print_report(cli, m, to_out);
    mosaicum_free(m);
    return status;
}

const struct command command_inspect = {
    .name = "inspect",
    .usage = "IMAGE",
    .about = "what is in a disk image: table, regions, file systems, what lies where",
    .details = "Any image, also one that somebody else made, also compressed (gz, xz, zst, "
               "bz2, lz4). Exit status 1 when something in it is damaged.",
    .examples = "mosaicum inspect card.img\n"
                "mosaicum inspect card.img.xz --files\n",
    .least = 1,
    .most = 1,
    .run = run,
};
