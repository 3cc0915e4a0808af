#include "cli/cli.h"

#include <unistd.h>

static int run(struct cli *cli) {
    bool images = access(cli->arguments[0], F_OK) == 0 && access(cli->arguments[1], F_OK) == 0;
    mosaicum *m = cli_open(cli, !images);
    if (!m)
        return MOSAICUM_USAGE;
    int status =
        print_result(cli, m, "compare", mosaicum_compare(m, cli->arguments[0], cli->arguments[1]));
    print_report(cli, m, to_out);
    mosaicum_free(m);
    return status;
}

const struct command command_compare = {
    .name = "compare",
    .usage = "A B",
    .about = "two boards, images, ledgers or acceptances side by side: only what differs",
    .details = "A and B are selectors, images, ledgers, or what listen --acceptance --json has "
               "told. Of images it tells by file what "
               "was added, removed or changed, and which bytes differ elsewhere. Of an image and a "
               "device that it was written on it tells what was edited there, with the change to "
               "make in the definition, apart from what came by running.",
    .examples = "mosaicum compare curlew curlew+bench\n"
                "mosaicum compare old.img new.img\n"
                "mosaicum compare out/curlew/card.img /dev/sdb\n",
    .least = 2,
    .most = 2,
    .run = run,
};
