/* Speaks to a public key subsystem with the client of libssh2, which somebody else wrote: libssh2 PORT PRIVATE PUBLIC BLOB.
   Lists the keys, adds the one in the file BLOB with a comment, lists, removes it, lists. */
#include <arpa/inet.h>
#include <libssh2.h>
#include <libssh2_publickey.h>
#include <netinet/in.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>

/* Where not everything has come yet the library wants to be called once more. */
#define AGAIN(call) ({ int code; while ((code = (call)) == LIBSSH2_ERROR_EAGAIN) continue; code; })

static int list(LIBSSH2_PUBLICKEY *keys, const char *when) {
  unsigned long count = 0;
  libssh2_publickey_list *all = NULL;
  if (AGAIN(libssh2_publickey_list_fetch(keys, &count, &all))) return 1;
  printf("%s %lu", when, count);
  for (unsigned long i = 0; i < count; i++)
    for (unsigned long a = 0; a < all[i].num_attrs; a++)
      printf(" %s=%.*s", all[i].attrs[a].name, (int)all[i].attrs[a].value_len, all[i].attrs[a].value);
  printf("\n");
  libssh2_publickey_list_free(keys, all);
  return 0;
}

int main(int argc, char **argv) {
  if (argc != 5) return 2;
  unsigned char blob[4096];
  FILE *file = fopen(argv[4], "rb");
  if (!file) return 3;
  size_t length = fread(blob, 1, sizeof blob, file);
  fclose(file);
  int line = socket(AF_INET, SOCK_STREAM, 0);
  struct sockaddr_in to = {.sin_family = AF_INET, .sin_port = htons(atoi(argv[1]))};
  to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  if (libssh2_init(0) || connect(line, (struct sockaddr *)&to, sizeof to)) return 4;
  LIBSSH2_SESSION *session = libssh2_session_init();
  if (libssh2_session_handshake(session, line)) return 5;
  if (libssh2_userauth_publickey_fromfile(session, "root", argv[3], argv[2], NULL)) return 6;
  LIBSSH2_PUBLICKEY *keys = libssh2_publickey_init(session);
  if (!keys) return 7;
  if (list(keys, "before")) return 8;
  libssh2_publickey_attribute comment = {"comment", 7, "of the fog signal", 17, 0};
  const unsigned char *name = (const unsigned char *)"ssh-ed25519";
  if (AGAIN(libssh2_publickey_add_ex(keys, name, 11, blob, length, 0, 1, &comment))) return 9;
  if (list(keys, "added")) return 10;
  /* The same key again, without leave to replace it. */
  printf("again %d\n", AGAIN(libssh2_publickey_add_ex(keys, name, 11, blob, length, 0, 0, NULL)) != 0);
  if (AGAIN(libssh2_publickey_remove_ex(keys, name, 11, blob, length))) return 11;
  if (list(keys, "removed")) return 12;
  libssh2_session_disconnect(session, "done");
  return 0;
}
