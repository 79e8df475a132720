"""Frames of every layout, what their files say of thermometer, noise reduction, shutter and compression, and bodies for files
without a name. The column of a layout is that of the places of a 2×2 mosaic, renamed: what stands in it is read as before.
"""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('bench', '0015_typed_notes'),
    ]

    operations = [
        migrations.CreateModel(
            name='NamedKind',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('mark', models.CharField(max_length=120, unique=True)),
            ],
            options={
                'ordering': ['mark'],
            },
        ),
        migrations.RemoveConstraint(
            model_name='problem',
            name='problem_once_per_file',
        ),
        migrations.RenameField(
            model_name='frame',
            old_name='offsets',
            new_name='layout',
        ),
        migrations.AddField(
            model_name='frame',
            name='claims',
            field=models.JSONField(default=dict),
        ),
        migrations.AddField(
            model_name='frame',
            name='compression',
            field=models.CharField(blank=True, choices=[('none', 'none'), ('lossless', 'lossless'), ('lossy', 'lossy')], max_length=8),
        ),
        migrations.AddField(
            model_name='frame',
            name='lenr',
            field=models.CharField(blank=True, choices=[('on', 'on'), ('off', 'off'), ('auto', 'auto')], max_length=4),
        ),
        migrations.AddField(
            model_name='frame',
            name='noise_reduction',
            field=models.CharField(blank=True, choices=[('on', 'on'), ('off', 'off'), ('auto', 'auto')], max_length=4),
        ),
        migrations.AddField(
            model_name='frame',
            name='several_shots',
            field=models.BooleanField(default=False),
        ),
        migrations.AddField(
            model_name='frame',
            name='shutter',
            field=models.CharField(blank=True, choices=[('mechanical', 'mechanical'), ('electronic', 'electronic'), ('electronic first curtain', 'electronic first curtain')], max_length=24),
        ),
        migrations.AddField(
            model_name='frame',
            name='temperature_of',
            field=models.CharField(blank=True, choices=[('sensor', 'sensor'), ('body', 'inside the body'), ('ambient', 'air')], max_length=8),
        ),
        migrations.AddConstraint(
            model_name='problem',
            constraint=models.UniqueConstraint(fields=('sitting', 'file_name', 'code', 'path'), name='problem_once_per_file'),
        ),
        migrations.AddField(
            model_name='namedkind',
            name='body',
            field=models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='named_kinds', to='bench.body'),
        ),
    ]
