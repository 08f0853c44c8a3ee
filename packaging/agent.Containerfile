# An agent in a container: the program is one static file with the certificates of usual authorities
# within, and needs nothing else.
#   script/package && podman build -f packaging/agent.Containerfile -t woodlark-agent .
#   podman run --cap-add NET_RAW --network host -v woodlark-agent:/state woodlark-agent \
#     -join https://SERVICE -invite CODE
# Begun again with the same invite it goes on as who it is.
FROM scratch
ARG KIND=amd64
COPY dist/woodlark-linux-${KIND} /woodlark
VOLUME /state
ENTRYPOINT ["/woodlark", "agent", "-state", "/state"]
