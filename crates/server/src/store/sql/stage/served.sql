select stage, kit, version from served where until_at is null and superseded_at is null order by stage, kit
