"""Listen to a night as if by a microphone; run it in a folder that ``barn-owl demo`` has written."""

import barn_owl


def main() -> None:
    model = barn_owl.load_model("run")
    rate_hz = barn_owl.audio_info("night.flac").rate_hz
    # In real life: barn_owl.audio.SoundCard(). A recording plays as fast as it can be listened to.
    microphone = barn_owl.audio.SimulatedMicrophone(
        barn_owl.audio.stream_audio("night.flac"), rate_hz, speed=float("inf")
    )
    listener = barn_owl.Listener(model, microphone, lead_s=0.5)
    notifier = barn_owl.live.Notifier(lambda event: print("notified of", event.label), interval_s=10.0)
    for event in listener.events():
        print(event.begins.isoformat(timespec="seconds"), event.label, round(event.score, 2), len(event.excerpt))
        notifier.notify(event)
    notifier.close()
    print(f"{listener.seconds:.0f} s processed, {listener.lost_s:.0f} s lost; latency {listener.latency_s:.1f} s")


if __name__ == "__main__":
    main()
