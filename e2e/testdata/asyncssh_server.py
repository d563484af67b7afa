"""A server made with the asyncssh library, on a port of 127.0.0.1 that it prints.

Arguments: the host key, the list of keys, the home folder, and "silent" for a server that
does not announce which signature algorithms it takes (RFC 8308)."""

import asyncio
import sys

import asyncssh

host_key, authorized, home = sys.argv[1:4]
if "silent" in sys.argv[4:]:
    asyncssh.connection.SSHConnection._send_ext_info = lambda self: None


class Server(asyncssh.SSHServer):
    def connection_requested(self, *_):
        return True


async def run(process):
    program = await asyncio.create_subprocess_shell(
        process.command or "sh", cwd=home,
        stdin=asyncio.subprocess.PIPE, stdout=asyncio.subprocess.PIPE, stderr=asyncio.subprocess.PIPE)
    await process.redirect(stdin=program.stdin, stdout=program.stdout, stderr=program.stderr)
    process.exit(await program.wait())


async def main():
    acceptor = await asyncssh.create_server(
        Server, "127.0.0.1", 0, server_host_keys=[host_key], authorized_client_keys=authorized,
        process_factory=run, sftp_factory=lambda channel: asyncssh.SFTPServer(channel, chroot=home))
    print(acceptor.sockets[0].getsockname()[1], flush=True)
    await asyncio.Event().wait()


asyncio.run(main())
