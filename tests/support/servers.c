/* Starting servers, and ending them with the test. */
#include "servers.h"

#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

static struct sockaddr_in loopback(int port)
{
    struct sockaddr_in at = {.sin_family = AF_INET, .sin_port = htons((uint16_t)port)};
    at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    return at;
}

int free_port(void)
{
    struct sockaddr_in at = loopback(0);
    socklen_t size = sizeof at;
    const int s = socket(AF_INET, SOCK_STREAM, 0);
    assert_int_equal(bind(s, (struct sockaddr *)&at, sizeof at), 0);
    assert_int_equal(getsockname(s, (struct sockaddr *)&at, &size), 0);
    (void)close(s);
    return ntohs(at.sin_port);
}

static bool answers(int port)
{
    const struct sockaddr_in at = loopback(port);
    const int s = socket(AF_INET, SOCK_STREAM, 0);
    const bool good = connect(s, (const struct sockaddr *)&at, sizeof at) == 0;
    (void)close(s);
    return good;
}

/* ---- processes --------------------------------------------------------------------- */

/* @param out  What it prints goes there; -1: nowhere. */
static pid_t spawn(char *const argv[], int out)
{
    const pid_t pid = fork();
    assert_true(pid >= 0);
    if (pid > 0)
        return pid;
    (void)prctl(PR_SET_PDEATHSIG, SIGKILL); /* a test that fails leaves nothing */
    const int nowhere = open("/dev/null", O_RDWR);
    (void)dup2(nowhere, 0);
    (void)dup2(out >= 0 ? out : nowhere, 1);
    if (!getenv("TAWNY_TEST_LOUD"))
        (void)dup2(nowhere, 2);
    for (int fd = 3; fd < 64; fd++)
        (void)close(fd);
    (void)execvp(argv[0], argv);
    _exit(127);
}

static void start_listening(server *s)
{
    s->pid = spawn(s->argv, -1);
    for (int i = 0; !answers(s->port); i++) {
        if (i > 500 || waitpid(s->pid, NULL, WNOHANG) == s->pid)
            fail_msg("%s does not answer at port %d", s->argv[0], s->port);
        (void)usleep(20000);
    }
}

static server make_server(int port, ...)
{
    server s = {.port = port};
    va_list args;
    va_start(args, port);
    for (size_t i = 0; i + 1 < sizeof s.argv / sizeof *s.argv; i++) {
        const char *word = va_arg(args, const char *);
        if (!word)
            break;
        s.argv[i] = strdup(word);
    }
    va_end(args);
    return s;
}

void stop_server(server *s, int number)
{
    if (s->pid > 0) {
        (void)kill(s->pid, number);
        (void)waitpid(s->pid, NULL, 0);
    }
    s->pid = 0;
}

void start_again(server *s)
{
    if (s->pid == 0)
        start_listening(s);
}

void end_server(server *s)
{
    stop_server(s, SIGKILL);
    for (size_t i = 0; i < sizeof s->argv / sizeof *s->argv; i++)
        free(s->argv[i]);
    memset(s, 0, sizeof *s);
}

server start_stand_in(const char *script, ...)
{
    server s = {.argv = {strdup("/usr/bin/python3")}};
    int ends[2];
    char line[16] = "";
    size_t used = 0;
    va_list args;
    s.argv[1] = join(SOURCE_DIR "/tests/support", script);
    va_start(args, script);
    for (size_t i = 2; i + 1 < sizeof s.argv / sizeof *s.argv; i++) {
        const char *word = va_arg(args, const char *);
        if (!word)
            break;
        s.argv[i] = strdup(word);
    }
    va_end(args);
    assert_int_equal(pipe(ends), 0);
    s.pid = spawn(s.argv, ends[1]);
    (void)close(ends[1]);
    while (used + 1 < sizeof line && read(ends[0], line + used, 1) == 1 &&
           line[used] != '\n')
        used++;
    (void)close(ends[0]);
    s.port = atoi(line);
    if (s.port <= 0)
        fail_msg("%s did not start", script);
    return s;
}

/* ---- credentials ------------------------------------------------------------------- */

static void run_quietly(const char *folder, const char *command)
{
    outcome o = run_program(folder, "/bin/sh", "-c", command, NULL);
    if (o.code != 0)
        fail_msg("%s: %s", command, o.err);
    free_outcome(&o);
}

void make_credentials(const char *folder)
{
    run_quietly(folder,
                "openssl req -x509 -newkey rsa:2048 -nodes -keyout key.pem -out cert.pem "
                "-days 30 -subj /CN=localhost -addext "
                "'subjectAltName=DNS:localhost,IP:127.0.0.1' && cat key.pem cert.pem > "
                "both.pem && ssh-keygen -q -t ed25519 -N '' -f id && ssh-keygen -q -t "
                "ed25519 -N '' -f host && umask 077 && echo frogspawn > good.secret && "
                "echo tadpole > bad.secret && echo secret > s3.secret");
    (void)chmod(folder, 0755);
}

/* Write a file of a folder, %P being a port, %D the folder. */
static char *write_settings(const char *folder, const char *name, int port,
                            const char *text)
{
    char *path = join(folder, name);
    FILE *out = fopen(path, "wb");
    assert_non_null(out);
    for (const char *c = text; *c; c++) {
        if (c[0] == '%' && c[1] == 'P')
            (void)fprintf(out, "%d", port);
        else if (c[0] == '%' && c[1] == 'D')
            (void)fputs(folder, out);
        else
            (void)fputc(*c, out);
        c += c[0] == '%' && (c[1] == 'P' || c[1] == 'D');
    }
    (void)fclose(out);
    return path;
}

/* ---- servers ----------------------------------------------------------------------- */

static server start_any_mail(const char *folder, const char *how)
{
    char *mail = join(folder, "mail"), *cert = join(folder, "cert.pem"),
         *key = join(folder, "key.pem"), port[16];
    (void)mkdir(mail, 0755);
    (void)snprintf(port, sizeof port, "%d", free_port());
    server s = start_stand_in("mail_server.py", mail, port, cert, key, "toad",
                              "frogspawn", how, NULL);
    free(mail);
    free(cert);
    free(key);
    return s;
}

server start_mail(const char *folder)
{
    return start_any_mail(folder, NULL);
}

server start_smtps(const char *folder)
{
    return start_any_mail(folder, "implicit");
}

server start_ftp(const char *folder, bool tls)
{
    char text[1024];
    const int port = free_port();
    run_quietly(folder, "mkdir -p ftp/up empty && chown ftp ftp/up");
    (void)snprintf(
        text, sizeof text,
        "listen=YES\nlisten_address=127.0.0.1\nlisten_port=%%P\nbackground=NO\n"
        "anonymous_enable=YES\nno_anon_password=YES\nanon_root=%%D/ftp\n"
        "write_enable=YES\nanon_upload_enable=YES\nanon_mkdir_write_enable=YES\n"
        "anon_other_write_enable=YES\nanon_umask=022\nallow_writeable_chroot=YES\n"
        "secure_chroot_dir=%%D/empty\npasv_address=127.0.0.1\nseccomp_sandbox=NO\n"
        "isolate=NO\nisolate_network=NO\nxferlog_enable=NO\n%s",
        tls ? "ssl_enable=YES\nallow_anon_ssl=YES\nforce_anon_data_ssl=YES\n"
              "force_anon_logins_ssl=YES\nrequire_ssl_reuse=NO\n"
              "rsa_cert_file=%D/both.pem\nssl_ciphers=HIGH\n"
            : "ssl_enable=NO\n");
    char *path = write_settings(folder, "vsftpd.conf", port, text);
    server s = make_server(port, "/usr/sbin/vsftpd", path, NULL);
    free(path);
    start_listening(&s);
    return s;
}

server start_sftp(const char *folder)
{
    char command[256];
    const int port = free_port();
    (void)snprintf(command, sizeof command,
                   "mkdir -p sftp /run/sshd; cp id.pub keys; (printf '[127.0.0.1]:%d '; "
                   "cut -d' ' -f1,2 host.pub) > known_hosts",
                   port);
    run_quietly(folder, command);
    char *path = write_settings(
        folder, "sshd.conf", port,
        "ListenAddress 127.0.0.1\nPort %P\nHostKey %D/host\nAuthorizedKeysFile %D/keys\n"
        "PidFile none\nStrictModes no\nUsePAM no\nPasswordAuthentication no\n"
        "Subsystem sftp internal-sftp\nForceCommand internal-sftp\n");
    server s = make_server(port, "/usr/sbin/sshd", "-D", "-e", "-f", path, NULL);
    free(path);
    start_listening(&s);
    return s;
}

server start_webdav(const char *folder, bool tls)
{
    char text[1024];
    const int port = free_port();
    run_quietly(folder, "mkdir -p www dav");
    (void)snprintf(
        text, sizeof text,
        "daemon off; master_process off; pid %%D/dav/pid; error_log stderr; events{}\n"
        "http { access_log off; client_body_temp_path %%D/dav/b; proxy_temp_path "
        "%%D/dav/p; fastcgi_temp_path %%D/dav/f; uwsgi_temp_path %%D/dav/u; "
        "scgi_temp_path %%D/dav/s; client_max_body_size 1m; server { listen "
        "127.0.0.1:%%P%s; root %%D/www; location / { dav_methods PUT DELETE MKCOL COPY "
        "MOVE; } } }\n",
        tls ? " ssl; ssl_certificate %D/cert.pem; ssl_certificate_key %D/key.pem" : "");
    char *path = write_settings(folder, "nginx.conf", port, text);
    server s = make_server(port, "/usr/sbin/nginx", "-p", folder, "-e", "stderr", "-c",
                           path, NULL);
    free(path);
    start_listening(&s);
    return s;
}

static server broker(const char *folder, bool login, const char *more)
{
    char text[512];
    const int port = free_port();
    if (login)
        run_quietly(folder, "mosquitto_passwd -b -c broker.users toad frogspawn; chmod "
                            "644 broker.users");
    (void)snprintf(text, sizeof text, "listener %%P 127.0.0.1\n%s\nlog_dest none\n%s\n",
                   login ? "allow_anonymous false\npassword_file %D/broker.users"
                         : "allow_anonymous true",
                   more);
    char *path = write_settings(folder, "mosquitto.conf", port, text);
    server s = make_server(port, "/usr/sbin/mosquitto", "-c", path, NULL);
    free(path);
    start_listening(&s);
    return s;
}

server start_broker(const char *folder, bool login, bool tls)
{
    run_quietly(folder, "chmod 644 key.pem");
    return broker(folder, login,
                  tls ? "certfile %D/cert.pem\nkeyfile %D/key.pem\npersistence false"
                      : "persistence false");
}

server start_broker_that_keeps(const char *folder, bool login)
{
    return broker(folder, login,
                  "user root\npersistence true\npersistence_location %D/\n"
                  "autosave_on_changes true\nautosave_interval 1");
}
