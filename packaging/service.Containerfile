# The service in a container, with a private database in its volume, by a user of its own.
#   script/package && podman build -f packaging/service.Containerfile -t woodlark .
#   podman run --cap-add NET_RAW -p 127.0.0.1:7373:7373 -v woodlark:/var/lib/woodlark woodlark
# The log has a link by which the first administrator is made. A certificate: mount it, and add
#   -tls-cert /tls/cert.pem -tls-key /tls/key.pem
FROM debian:bookworm-slim
ARG KIND=amd64
COPY dist/woodlark_*_${KIND}.deb /tmp/
RUN apt-get update \
 && apt-get install -y --no-install-recommends ca-certificates /tmp/woodlark_*_${KIND}.deb \
 && rm -rf /var/lib/apt/lists/* /tmp/woodlark_*.deb
VOLUME /var/lib/woodlark
EXPOSE 7373
USER woodlark
# Within the container HTTP is in clear; nothing but what -p lets through reaches it.
ENTRYPOINT ["/usr/bin/woodlark", "serve", "-config", "/etc/woodlark/woodlark.yaml", "-listen", "0.0.0.0:7373", "-plain-http"]
