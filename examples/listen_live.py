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
    notifier = barn_owl.live.Notifier(lambda heard: print("notified of", heard.label), interval_s=10.0)
    for heard in listener.events():
        print(heard.begins.isoformat(timespec="seconds"), heard.label, round(heard.score, 2), len(heard.excerpt))
        notifier.give(heard)
    notifier.close()
    print(
        f"{listener.seconds:.0f} s heard, {listener.lost_s:.0f} s lost; events come {listener.latency_s:.1f} s late"
    )


if __name__ == "__main__":
    main()
