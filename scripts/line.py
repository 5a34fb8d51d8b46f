# A line between a port of this machine and another one:
#
#     line.py TO FROM RATE DELAY COUNTED
#
# Whatever comes at FROM goes to TO and back, each direction DELAY seconds later, and RATE bytes a second at most, all connections
# together. How many bytes crossed is in the file COUNTED.
import asyncio, sys

to, at, RATE, DELAY = int(sys.argv[1]), int(sys.argv[2]), int(sys.argv[3]), float(sys.argv[4])
counted = 0

class Way:
    free = 0.0

async def pass_on(way, source, sink):
    global counted
    clock = asyncio.get_running_loop().time
    queue = asyncio.Queue()
    async def give():
        while True:
            at, data = await queue.get()
            await asyncio.sleep(max(0, at - clock()))
            if not data:
                sink.close()
                return
            sink.write(data)
            await sink.drain()
    giver = asyncio.create_task(give())
    try:
        while data := await source.read(16384):
            way.free = max(way.free, clock()) + len(data) / RATE
            counted += len(data)
            queue.put_nowait((way.free + DELAY, data))
            if queue.qsize() > 256:
                await asyncio.sleep(DELAY)
    except ConnectionError:
        pass
    queue.put_nowait((clock() + DELAY, b""))
    try:
        await giver
    except ConnectionError:
        pass

there, back = Way(), Way()

async def connected(reader, writer):
    far_reader, far_writer = await asyncio.open_connection("127.0.0.1", to)
    await asyncio.gather(pass_on(there, reader, far_writer), pass_on(back, far_reader, writer))

async def main():
    server = await asyncio.start_server(connected, "127.0.0.1", at)
    async with server:
        while True:
            await asyncio.sleep(0.05)
            with open(sys.argv[5], "w") as out:
                out.write(str(counted))

asyncio.run(main())
