#include "cli/cli.h"

static int run(struct cli *cli) {
    if (!cli->workspace)
        cli->workspace = cli_find_workspace(); /* an image needs none */
    mosaicum *m = cli_open(cli, false);
    if (!m)
        return MOSAICUM_SYSTEM;
    struct mosaicum_rehearsal request = {.what = cli->arguments[0],
                                         .loader = cli->loader,
                                         .medium = cli->medium,
                                         .cpu = cli->draft.cpu,
                                         .ram_start = cli->draft.ram_start,
                                         .ram = cli->draft.ram_size,
                                         .tree = cli->draft.tree,
                                         .flash = cli->flash,
                                         .keys = cli->keys,
                                         .set = cli->set,
                                         .out = cli->out,
                                         .planned = cli->planned,
                                         .faults = cli->faults,
                                         .console = cli->verbose};
    int status = print_result(cli, m, "rehearse", mosaicum_rehearse(m, &request));
    print_report(cli, m, to_out);
    mosaicum_free(m);
    return status;
}

const struct command command_rehearse = {
    .name = "rehearse",
    .usage = "SELECTOR|IMAGE",
    .about =
        "boots what was built (--planned: what would be) in a simulator; --faults breaks things",
    .details = "Of a selector it is what stands in out/, or, with --planned, what a build "
               "would write. Of an image, the options tell what no image can. Exit status 0: "
               "it boots as meant.",
    .examples = "mosaicum rehearse curlew\n"
                "mosaicum rehearse curlew --faults\n"
                "mosaicum rehearse card.img --cpu arm64 --ram-start 0x40000000 --ram \"512 MiB\"\n",
    .least = 1,
    .most = 1,
    .run = run,
};
