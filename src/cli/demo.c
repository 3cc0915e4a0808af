#include "cli/cli.h"

#include <stdlib.h>
#include <string.h>

/* One step of the tour: what one would type, then what comes of it. */
static void announce(const struct cli *cli, const char *text, const char *command) {
    fprintf(to_out, "%s%s%s\n%s$ mosaicum %s%s\n", style(cli, STYLE_GOOD), text,
            style(cli, STYLE_END), style(cli, STYLE_STRONG), command, style(cli, STYLE_END));
    fflush(to_out);
}

static int step(const struct cli *base, const char *folder, const char *text,
                const struct command *command, const char *first, const char *second,
                const char *shown) {
    struct cli cli = *base;
    const char *arguments[] = {first, second, NULL};
    cli.workspace = folder;
    cli.arguments = arguments;
    cli.argument_count = (first != NULL) + (second != NULL);
    announce(base, text, shown);
    int status = command->run(&cli);
    fputc('\n', to_out);
    return status;
}

static int tour(struct cli *cli, const char *folder) {
    char image[4096], mistake[4096], inspect[4200];
    snprintf(image, sizeof image, "%s/saltmarsh/out/curlew/card.img", folder);
    snprintf(mistake, sizeof mistake, "%s/mistakes/loader-over-env", folder);
    snprintf(inspect, sizeof inspect, "inspect %s", image);
    char workspace[4096];
    snprintf(workspace, sizeof workspace, "%s/saltmarsh", folder);
    int status = step(cli, workspace, "Do the parts of each board and variant fit together?",
                      &command_check, NULL, NULL, "check");
    if (!status)
        status = step(cli, workspace, "Where does everything lie?", &command_show, "curlew",
                      "layout", "show curlew layout");
    if (!status)
        status = step(cli, workspace, "What will the loader do?", &command_show, "curlew", "boot",
                      "show curlew boot");
    if (!status) /* something always differs: that is its status */
        step(cli, workspace, "In what do two variants differ?", &command_compare, "curlew+bench",
             "curlew+field", "compare curlew+bench curlew+field");
    if (!status)
        status = step(cli, workspace, "The images and their ledgers:", &command_build, NULL, NULL,
                      "build");
    if (!status)
        status =
            step(cli, workspace, "Is everything in it?", &command_inspect, image, NULL, inspect);
    if (!status)
        status = step(cli, workspace, "What is there:", &command_list, NULL, NULL, "list");
    if (status)
        return status;
    status = step(cli, mistake, "And a board with a mistake:", &command_check, NULL, NULL, "check");
    fprintf(to_out, "The workspace is in %s; more mistakes are in %s/mistakes.\n", workspace,
            folder);
    return status == MOSAICUM_FINDINGS ? MOSAICUM_DONE : status;
}

static int run(struct cli *cli) {
    const char *folder = cli->argument_count ? cli->arguments[0] : "mosaicum-demo";
    mosaicum *m = cli_open(cli, false);
    if (!m)
        return MOSAICUM_SYSTEM;
    int status = mosaicum_demo(m, folder);
    if (status || cli->json)
        print_result(cli, m, "demo", status);
    mosaicum_free(m);
    return status || cli->json ? status : tour(cli, folder);
}

const struct command command_demo = {
    .name = "demo",
    .usage = "[DIR]",
    .about = "writes the demo workspace and does the whole job on it",
    .details = "Writes a workspace with three boards and a folder of mistakes, checks, "
               "builds and rehearses it.",
    .examples = "mosaicum demo\n"
                "mosaicum demo gauge\n",
    .most = 1,
    .run = run,
};
