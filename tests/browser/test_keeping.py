"""Handover keeps songs: a backup fetched and brought back on the page, and room on the disk."""

from __future__ import annotations

from pathlib import Path

import httpx
from playwright.sync_api import Page, expect

from tests.browser.conftest import state
from tests.web.server import wait_for_task


def test_a_backup_is_made_fetched_and_brought_back(page: Page, address: str, full_song: int, tmp_path: Path) -> None:
    page.goto("/handover")
    page.locator("[data-test=backup]").click()
    keep = page.get_by_role("region", name="Keep")
    with page.expect_download() as fetched:
        keep.get_by_role("link", name="Sluice-backup.zip").click()
    file = tmp_path / fetched.value.suggested_filename
    fetched.value.save_as(file)
    page.locator("[data-test=restore]").set_input_files(file)
    expect(page.get_by_text("Restored: Sluice (restored)")).to_be_visible()
    songs = httpx.get(f"{address}/api/songs").json()
    assert [s["name"] for s in songs] == ["Sluice", "Sluice (restored)"]
    old, new = (state(address, s["id"]) for s in songs)
    assert [t["audio_sha256"] for t in new["tracks"]] == [t["audio_sha256"] for t in old["tracks"]]
    (tmp_path / "cut.zip").write_bytes(file.read_bytes()[:5_000])
    page.locator("[data-test=restore]").set_input_files(tmp_path / "cut.zip")
    expect(page.get_by_text("Could not use cut.zip: it is not a backup, or it is damaged")).to_be_visible()
    assert len(httpx.get(f"{address}/api/songs").json()) == 2


def test_before_a_song_is_there_none_can_be_kept(page: Page, address: str, db: None) -> None:
    page.goto("/handover")
    expect(page.locator("[data-test=backup]")).to_be_disabled()
    httpx.post(f"{address}/api/songs", json={"name": "Weir", "sample_rate": 48_000}).raise_for_status()
    page.goto("/handover")
    expect(page.locator("[data-test=backup]")).to_be_enabled()


def test_room_is_made_with_a_click_and_songs_stay(page: Page, address: str, full_song: int) -> None:
    track = state(address, full_song)["tracks"][0]["id"]
    task = httpx.post(f"{address}/api/songs/{full_song}/exports", json={"track_ids": [track]}).json()
    assert wait_for_task(address, task["id"])["state"] == "done"
    page.goto("/handover")
    disk = page.locator("[data-test=disk]")
    expect(disk).to_contain_text("Free on the server's disk")
    disk.get_by_role("button", name="Remove exports").click()
    page.get_by_role("button", name="Keep", exact=True).click()
    assert httpx.get(f"{address}/api/disk").json()["exports"] > 0
    disk.get_by_role("button", name="Remove exports").click()
    page.get_by_role("button", name="Remove", exact=True).click()
    expect(page.get_by_text("were freed.")).to_be_visible()
    expect(disk.get_by_role("button", name="Remove exports")).to_be_disabled()
    expect(page.get_by_role("region", name="Stems")).to_contain_text("Its files were removed to make room")
    assert httpx.get(f"{address}/api/disk").json()["exports"] == 0
    assert len(state(address, full_song)["tracks"]) == 2
