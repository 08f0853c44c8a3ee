-- By which an agent on another machine signs its calls (Ed25519); none for one that shows a key.
ALTER TABLE agents ADD COLUMN IF NOT EXISTS public_key VARBINARY(32) NULL;
