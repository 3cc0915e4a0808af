#include "cli/cli.h"

static int run(struct cli *cli) {
    mosaicum *m = cli_open(cli, true);
    if (!m)
        return MOSAICUM_USAGE;
    int status = mosaicum_build(m, cli->arguments, (size_t)cli->argument_count, cli->out);
    print_result(cli, m, "build", status);
    if (!cli->quiet) /* an error of one board does not undo the others */
        print_tables(cli, m, to_out);
    if (!cli->json && !mosaicum_error(m))
        print_summary(cli, m, to_out);
    if (!cli->json && !cli->quiet && !status && !mosaicum_count(m, MOSAICUM_WARNING) &&
        mosaicum_not_proved_count(m)) {
        fprintf(to_out, "%sNothing to complain about%s", style(cli, STYLE_GOOD),
                style(cli, STYLE_END));
        print_unproved(cli, m, to_out);
        fprintf(to_out, ".\n");
    }
    if (!cli->json && !cli->quiet && !status) {
        fputs(style(cli, STYLE_DIM), to_out);
        print_words(cli, 0, 6,
                    "Next: mosaicum rehearse SELECTOR boots it here; mosaicum show SELECTOR "
                    "emulator starts it in an emulated machine.",
                    to_out);
        fputs(style(cli, STYLE_END), to_out);
    }
    mosaicum_free(m);
    return status;
}

const struct command command_build = {
    .name = "build",
    .usage = "[SELECTOR…]",
    .about = "check, then images, boot files and ledger under out/SELECTOR/",
    .details = "Boards without errors only; several are built side by side. A build replaces "
               "out/SELECTOR/ as a whole, and only where the ledger in it says that an "
               "earlier build made it. Where nothing has changed nothing is written; volumes "
               "that have not changed are taken from the build before.",
    .examples = "mosaicum build\n"
                "mosaicum build curlew+field --out release\n"
                "mosaicum build --sha256\n",
    .most = -1,
    .run = run,
};
