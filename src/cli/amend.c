#include "cli/cli.h"

static int run(struct cli *cli) {
    if (!cli->output) {
        fprintf(to_err, "%smosaicum:%s amend writes a new image: name it with -o FILE\n",
                style(cli, STYLE_ERROR), style(cli, STYLE_END));
        return MOSAICUM_USAGE;
    }
    mosaicum *m = cli_open(cli, false);
    if (!m)
        return MOSAICUM_SYSTEM;
    int status = print_result(cli, m, "amend",
                              mosaicum_amend(m, cli->arguments[0], cli->arguments + 1,
                                             (size_t)cli->argument_count - 1, cli->output));
    if (!cli->quiet || status)
        print_report(cli, m, to_out);
    mosaicum_free(m);
    return status;
}

const struct command command_amend = {
    .name = "amend",
    .usage = "IMAGE CHANGE… -o FILE",
    .about = "a new image with files (REGION:PATH=FILE) or regions (REGION=FILE) exchanged",
    .details = "A CHANGE is REGION:PATH=FILE (a file exchanged or added), REGION:~PATH "
               "(removed), REGION=FILE (a whole region), or REGION:NAME=VALUE for a variable "
               "of an environment. What is not named stays byte for byte; a damaged GPT is "
               "written anew where that overwrites nothing else.",
    .examples = "mosaicum amend card.img root:etc/issue=issue boot:kernel=Image -o west.img\n"
                "mosaicum amend card.img '2 MiB:site=west' -o west2.img\n",
    .least = 2,
    .most = -1,
    .run = run,
};
