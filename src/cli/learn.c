#include "cli/cli.h"

static int run(struct cli *cli) {
    struct mosaicum_learn request = {.folder = cli->output,
                                     .bench = cli_bench_file(cli),
                                     .unit = cli->unit,
                                     .speed = cli->speed,
                                     .user = cli->user,
                                     .password_file = cli->password_file,
                                     .cycle = cli->cycle,
                                     .stored = cli->stored,
                                     .self = cli,
                                     .note = cli->json || cli->quiet ? NULL : beside_note};
    if (!beside_words(cli, &request.name, &request.port))
        return MOSAICUM_USAGE;
    if (request.stored && request.port) {
        fprintf(to_err, "mosaicum: --stored reads what was stored: name no port beside it\n");
        return MOSAICUM_USAGE;
    }
    if (!cli->workspace)
        cli->workspace = cli_find_workspace();
    if (!cli->workspace)
        cli->workspace = ".";
    mosaicum *m = cli_open(cli, false);
    if (!m)
        return MOSAICUM_SYSTEM;
    cli_stops_waiting();
    enum mosaicum_status came_to = mosaicum_learn(m, &request);
    progress_clear();
    int status = print_result(cli, m, "learn", came_to);
    if (!cli->quiet)
        print_report(cli, m, to_out);
    mosaicum_free(m);
    return status;
}

const struct command command_learn = {
    .name = "learn",
    .usage = "[NAME] [PORT]",
    .about = "asks a board about itself at its loader's prompt or its Linux, for its definition",
    .details =
        "Stops the countdown of a loader, or takes the prompt that is there, and asks how the "
        "loader was built, what RAM and storage it sees, and its variables; at the shell of a "
        "running Linux (--user and --password-file log in) it asks for the tree, the "
        "configuration, arguments, partitions and modules. It only reads: nothing is stored on "
        "the board. Of a board of this workspace it tells what the definition says otherwise; "
        "of a new NAME it writes a draft, with all that the board told. -o puts the draft into "
        "a folder of its own.",
    .examples = "mosaicum learn /dev/ttyUSB0\n"
                "mosaicum learn jetty /dev/ttyUSB0\n"
                "mosaicum learn curlew tcp:127.0.0.1:4001 -o told/\n",
    .least = 0,
    .most = 2,
    .run = run,
};
