#include "cli/options.h"
#include "platform/platform.h"

#include <errno.h>
#include <fcntl.h>
#include <langinfo.h>
#include <locale.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>

static int wrong_usage(const struct cli *cli, const char *text, const char *more) {
    fprintf(to_err, "%smosaicum:%s %s%s\n", style(cli, STYLE_ERROR), style(cli, STYLE_END), text,
            more);
    fprintf(to_err, "Try: mosaicum --help\n");
    return MOSAICUM_USAGE;
}

static int no_command(const struct cli *cli, const char *name) {
    const char *near = command_near(name);
    fprintf(to_err, "%smosaicum:%s there is no command %s%s%s%s\nTry: mosaicum --help\n",
            style(cli, STYLE_ERROR), style(cli, STYLE_END), name, near ? "; did you mean " : "",
            near ? near : "", near ? "?" : "");
    return MOSAICUM_USAGE;
}

static bool choose_color(const char *when, bool *color) {
    const char *term = getenv("TERM");
    if (!when || strcmp(when, "auto") == 0)
        *color = isatty(1) && !getenv("NO_COLOR") && term && strcmp(term, "dumb") != 0;
    else if (strcmp(when, "always") == 0 || strcmp(when, "never") == 0)
        *color = *when == 'a';
    else
        return false;
    return true;
}

static void look_at_terminal(struct cli *cli) {
    struct winsize size;
    setlocale(LC_CTYPE, "");
    cli->unicode = strcmp(nl_langinfo(CODESET), "UTF-8") == 0;
    if (isatty(1) && ioctl(1, TIOCGWINSZ, &size) == 0)
        cli->width = size.ws_col;
}

static bool fits(const struct cli *cli, const struct command *c) {
    const char *wrong;
    char others[400];
    if (options_fit(c, &wrong, others, sizeof others))
        return true;
    fprintf(to_err, "%smosaicum:%s --%s is no option of %s%s%s\n", style(cli, STYLE_ERROR),
            style(cli, STYLE_END), wrong, c->name, *others ? "; it takes:" : "", others);
    return false;
}

static int run_command(struct cli *cli, const char *name) {
    const struct command *c = command_named(name);
    if (!c)
        return no_command(cli, name);
    if (cli->help && c->about) {
        help_command(cli, c, to_out);
        return MOSAICUM_DONE;
    }
    if (cli->argument_count < c->least || (c->most >= 0 && cli->argument_count > c->most)) {
        fprintf(to_err, "%smosaicum:%s %s is used like this: mosaicum %s%s%s\n",
                style(cli, STYLE_ERROR), style(cli, STYLE_END), name, name, *c->usage ? " " : "",
                c->usage);
        return MOSAICUM_USAGE;
    }
    return fits(cli, c) ? c->run(cli) : MOSAICUM_USAGE;
}

static int carry_out(struct cli *cli, const char *why, const char **words) {
    bool good_color = choose_color(cli->when_color, &cli->color);
    if (*why)
        return wrong_usage(cli, why, "");
    if (!good_color)
        return wrong_usage(cli, "--color is auto, always or never, not ", cli->when_color);
    if (!words)
        return MOSAICUM_SYSTEM;
    if (cli->version)
        return fprintf(to_out, "mosaicum %s\n", mosaicum_version()) < 0 ? MOSAICUM_SYSTEM
                                                                        : MOSAICUM_DONE;
    if (!words[0]) {
        help_all(cli, cli->help ? to_out : to_err);
        return cli->help ? MOSAICUM_DONE : MOSAICUM_USAGE;
    }
    cli->arguments = words + 1;
    while (cli->arguments[cli->argument_count])
        cli->argument_count++;
    return run_command(cli, words[0]);
}

/* A standard stream that came closed must not become the number of an image: what is printed would
 * go there.  Writing to it fails as it would have. */
static bool hold_standard_streams(void) {
    for (int fd = 0; fd < 3; fd++)
        if (fcntl(fd, F_GETFD) < 0 && open("/dev/null", O_RDONLY) != fd)
            return false;
    return true;
}

int main(int argc, const char **argv) {
    struct cli cli = {0};
    if (!hold_standard_streams())
        return MOSAICUM_SYSTEM;
    signal(SIGPIPE, SIG_IGN);
    look_at_terminal(&cli);
    if (!out_open(cli.unicode))
        return MOSAICUM_SYSTEM;
    char why[512];
    const char **words = options_parse(&cli, argc, argv, why, sizeof why);
    int status = carry_out(&cli, why, words);
    options_free(words);
    bool written = fflush(to_out) == 0 && !ferror(to_out);
    if (!written && errno != EPIPE)
        fprintf(to_err, "mosaicum: cannot write to standard output: %s\n", strerror(errno));
    written &= out_close();
    return status || written ? status : MOSAICUM_SYSTEM;
}
