delete from asset
